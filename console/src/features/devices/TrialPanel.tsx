import { useMutation } from "@tanstack/react-query";
import { api, ApiFailure, type Content, dataOf } from "../../api/client";
import { Button } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { raw, value } from "../../text/format";

interface TrialPanelProps {
  gateway: string;
  link: Content;
  device: Content;
  point: Content;
  label?: string;
}

/** Reads a point once, now. Nothing is saved: what stands in the form is what is tried. */
export function TrialPanel({ gateway, link, device, point, label = "Read it now" }: TrialPanelProps) {
  const trial = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/gateways/{gateway}/trials", { params: { path: { gateway } }, body: { link, device, point } })),
  });
  const problems = trial.error instanceof ApiFailure ? trial.error.problems : [];
  const reading = trial.data;
  return (
    <div className="grid gap-2" aria-live="polite">
      <div className="flex flex-wrap items-center gap-3">
        <Button quiet disabled={trial.isPending} onClick={() => trial.mutate()}>
          {trial.isPending ? "Asking …" : label}
        </Button>
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
      {trial.isError ? (
        <Notice tone="alarm" title={problems.length > 0 ? "This cannot be asked" : trial.error.message}>
          {problems.map((problem) => (
            <p key={problem.message}>
              {problem.message}; expected {problem.expected}
            </p>
          ))}
        </Notice>
      ) : null}
    </div>
  );
}
