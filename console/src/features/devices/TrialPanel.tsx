import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Content, dataOf, type TrialReading } from "../../api/client";
import { Badge } from "../../components/Badge";
import { Confirm } from "../../components/Confirm";
import { Button } from "../../components/Form";
import { FrameLines } from "../../components/FrameLines";
import { raw, value } from "../../text/format";
import { Failure } from "./Failure";
import { typedValue, WriteOutcome } from "./WriteOutcome";

interface TrialPanelProps {
  gateway: string;
  link: Content;
  device: Content;
  point: Content;
  label?: string;
}

/** Reads a point once, now. Nothing is saved: what stands in the form is what is tried. */
export function TrialPanel({ gateway, link, device, point, label = "Read it now" }: TrialPanelProps) {
  const [expected, setExpected] = useState("");
  const number = expected.trim() === "" ? null : Number(expected.replace(",", "."));
  const body = { link, device, point, neighbours: true, expected: Number.isFinite(number) ? number : null };
  const trial = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/gateways/{gateway}/trials", { params: { path: { gateway } }, body })),
  });
  const reading = trial.data;
  return (
    <div className="grid gap-2" aria-live="polite">
      <div className="flex flex-wrap items-center gap-3">
        <Button quiet disabled={trial.isPending} onClick={() => trial.mutate()}>
          {trial.isPending ? "Asking …" : label}
        </Button>
        <label className="flex items-center gap-2 text-sm text-soft">
          Its display shows
          <input
            inputMode="decimal"
            value={expected}
            onChange={(event) => setExpected(event.target.value)}
            className="h-9 w-24 rounded-md border border-line-strong bg-raised px-2 text-ink"
          />
        </label>
        <span className="text-xs text-faint">Asks the device once; nothing is saved.</span>
      </div>
      {reading ? (
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 rounded-md border border-line bg-raised p-3 text-sm">
          <dt className="text-soft">Value</dt>
          <dd className="font-semibold tabular-nums">
            {value(reading.value)} {reading.unit}
          </dd>
          <dt className="text-soft">Raw</dt>
          <dd className="font-mono text-xs leading-5">{raw(reading.raw)}</dd>
          <dt className="text-soft">Registers</dt>
          <dd className="font-mono text-xs leading-5">
            {reading.address}: {reading.registers.map((register) => `${register} (0x${register.toString(16).toUpperCase().padStart(4, "0")})`).join("  ")}
          </dd>
          <dt className="text-soft">Answer</dt>
          <dd className="tabular-nums">
            {reading.answer_ms.toFixed(1)} ms{reading.shared_connection ? ", over the connection of the running link" : ""}
          </dd>
        </dl>
      ) : null}
      {reading?.alternatives && reading.alternatives.length > 0 ? <Alternatives alternatives={reading.alternatives} /> : null}
      {reading ? (
        <details className="rounded-md border border-line p-3 text-sm">
          <summary className="cursor-pointer text-soft">On the line</summary>
          <FrameLines frames={reading.frames} label="On the line" />
        </details>
      ) : null}
      <Failure error={trial.error} />
      {canBeWritten(point) ? <WriteNow {...{ gateway, link, device, point }} /> : null}
    </div>
  );
}

/** Whether clients may write to where a point lives: coils and holding registers, also as reference numbers. */
const canBeWritten = (point: Content) => /^(coil:|holding:|0\d{4,5}$|4\d{4,5}$)/.test(String(point.address ?? ""));

/** Writes a value once, now, and reads it back. Asks first: it moves something in the field. */
function WriteNow({ gateway, link, device, point }: Omit<TrialPanelProps, "label">) {
  const [typed, setTyped] = useState("");
  const write = useMutation({
    mutationFn: () =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/trials/write", {
          params: { path: { gateway } },
          body: { link, device, point, value: typedValue(typed) },
        }),
      ),
  });
  return (
    <div className="grid gap-2">
      <div className="flex flex-wrap items-center gap-3">
        <Confirm
          title={`Write ${typed.trim()} to ${String(point.address)}?`}
          action="Write it"
          onConfirm={() => write.mutate()}
          trigger={
            <Button quiet disabled={write.isPending || typed.trim() === ""}>
              {write.isPending ? "Writing …" : "Write it now"}
            </Button>
          }
        >
          The value goes to the device at once, and is read back. Something in the plant may move.
        </Confirm>
        <label className="flex items-center gap-2 text-sm text-soft">
          Value
          <input value={typed} onChange={(event) => setTyped(event.target.value)} className="h-9 w-24 rounded-md border border-line-strong bg-raised px-2 text-ink" />
        </label>
      </div>
      {write.data ? <WriteOutcome of={write.data} /> : null}
      <Failure error={write.error} />
    </div>
  );
}

/** The same registers under every plausible type and order: the wrong order and the address off by one show at a look. */
function Alternatives({ alternatives }: { alternatives: NonNullable<TrialReading["alternatives"]> }) {
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
