import type { TrialReading } from "../../../../api/client";
import { Badge } from "../../../../components/Badge";
import { raw } from "../../../../text/format";

/** The registers that came. */
export function Brought({ reading }: { reading: TrialReading }) {
  const hex = (register: number) => `${register} (0x${register.toString(16).toUpperCase().padStart(4, "0")})`;
  return (
    <>
      <dt className="text-soft">Registers</dt>
      <dd className="font-mono text-xs leading-5">
        {reading.address}: {reading.registers.map(hex).join("  ")}
      </dd>
    </>
  );
}

/** The same registers under every plausible type and order: the wrong order and the address off by one show at a look. */
export function Alternatives({ reading }: { reading: TrialReading }) {
  const alternatives = reading.alternatives ?? [];
  if (alternatives.length === 0) return null;
  const near = alternatives.filter((one) => one.scale != null);
  return (
    <details open={near.length > 0 || undefined} className="rounded-md border border-line p-3 text-sm">
      <summary className="cursor-pointer text-soft">Read otherwise, and one address off</summary>
      <div className="mt-2 max-h-72 overflow-auto">
        <table className="w-full text-left">
          <thead>
            <tr className="text-xs text-soft">
              <th className="pr-3 font-normal">Address</th>
              <th className="pr-3 font-normal">Type</th>
              <th className="pr-3 font-normal">Order</th>
              <th className="pr-3 text-right font-normal">Raw value</th>
              <th className="font-normal">Near what is shown</th>
            </tr>
          </thead>
          <tbody>
            {alternatives.map((one) => (
              <tr key={`${one.address}${one.type}${one.order}`} className={`border-t border-line ${one.scale != null ? "font-semibold" : ""}`}>
                <td className="py-1 pr-3 font-mono text-xs">{one.address}</td>
                <td className="pr-3">{one.type}</td>
                <td className="pr-3">{one.order ?? ""}</td>
                <td className="pr-3 text-right tabular-nums">{raw(one.value)}</td>
                <td>{one.scale != null ? <Badge tone="plain">with scale {one.scale}</Badge> : null}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </details>
  );
}
