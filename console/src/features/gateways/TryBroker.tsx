import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Content, dataOf } from "../../api/client";
import { Button } from "../../components/Form";
import { Failure } from "../devices/Failure";

const STEPS: Record<string, string> = {
  name: "Find the broker's address",
  tcp: "Connect",
  tls: "Prove who is who",
  mqtt: "Sign in",
  subscribe: "Listen for commands",
  publish: "Publish",
};

/** Goes the way to the broker with what stands in the form, step by step; a session that runs goes on. */
export function TryBroker({ gateway, uplink }: { gateway: string; uplink: Content }) {
  const [publish, setPublish] = useState(false);
  const trial = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/trials/broker", { params: { path: { gateway } }, body: { uplink, publish } })),
  });
  return (
    <section aria-label="Try the broker" className="grid gap-2" aria-live="polite">
      <div className="flex flex-wrap items-center gap-3">
        <Button quiet disabled={trial.isPending} onClick={() => trial.mutate()}>
          {trial.isPending ? "Trying …" : "Try the broker now"}
        </Button>
        <label className="flex items-center gap-2 text-sm text-soft">
          <input type="checkbox" checked={publish} onChange={(event) => setPublish(event.target.checked)} className="size-4 accent-(--act)" />
          {uplink.kind === "json" ? "Publish an empty message, too" : "Publish, too: a death that hosts pass over"}
        </label>
      </div>
      {trial.data ? (
        <ol className="grid gap-1 rounded-md border border-line bg-raised p-3 text-sm">
          {trial.data.steps.map((step) => (
            <li key={step.step} className="grid gap-x-4 sm:grid-cols-[13rem_1fr_auto]">
              <span className={step.ok ? "" : "font-semibold text-alarm"}>
                <span aria-hidden="true">{step.ok ? "● " : "■ "}</span>
                {STEPS[step.step] ?? step.step}
                {step.ok ? "" : " failed"}
              </span>
              <span className={`min-w-0 wrap-anywhere ${step.ok ? "text-soft" : "text-alarm"}`}>{step.said}</span>
              <span className="text-faint tabular-nums">{step.ms.toFixed(1)} ms</span>
            </li>
          ))}
        </ol>
      ) : null}
      <Failure error={trial.error} />
    </section>
  );
}
