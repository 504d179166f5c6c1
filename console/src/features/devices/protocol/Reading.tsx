import type { TrialReading } from "../../../api/client";

/** What the device said with the value: status, times, type. */
export function Said({ reading }: { reading: TrialReading }) {
  return (reading.said ?? []).map((one) => (
    <div key={one.what} className="contents">
      <dt className="text-soft capitalize">{one.what}</dt>
      <dd className="font-mono text-xs leading-5 break-all">{one.value}</dd>
    </div>
  ));
}

/** The device says what its values are. */
export function Nothing() {
  return null;
}
