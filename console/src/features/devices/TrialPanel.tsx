import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Content, dataOf } from "../../api/client";
import { Confirm } from "../../components/Confirm";
import { Button } from "../../components/Form";
import { useMay } from "../session/may";
import { Takes } from "../session/Takes";
import { Failure } from "./Failure";
import { partsOf } from "./protocol";
import { WhatItSaid } from "./WhatItSaid";
import { typedValue, WriteOutcome } from "./WriteOutcome";

interface TrialPanelProps {
  gateway: string;
  link: Content;
  device: Content;
  point: Content;
  label?: string;
}

/** Reads a point once, now. Nothing is saved: what stands in the form is what is tried. */
export function TrialPanel(props: TrialPanelProps) {
  return useMay("engineer") ? <Trial {...props} /> : <Takes role="engineer" what="Reading it now" />;
}

function Trial({ gateway, link, device, point, label = "Read it now" }: TrialPanelProps) {
  const [expected, setExpected] = useState("");
  const number = expected.trim() === "" ? null : Number(expected.replace(",", "."));
  const body = { link, device, point, neighbours: true, expected: Number.isFinite(number) ? number : null };
  const trial = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/gateways/{gateway}/trials", { params: { path: { gateway } }, body })),
  });
  const { canBeWritten, canBeRelinquished } = partsOf(link);
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
            className="h-9 max-md:h-11 w-24 rounded-md border border-line-strong bg-raised px-2 text-ink"
          />
        </label>
        <span className="text-xs text-faint">Asks the device once; nothing is saved.</span>
      </div>
      {trial.data ? <WhatItSaid reading={trial.data} link={link} /> : null}
      <Failure error={trial.error} />
      {canBeWritten(point) ? <WriteNow {...{ gateway, link, device, point }} canBeRelinquished={canBeRelinquished?.(point) ?? false} /> : null}
    </div>
  );
}

/** Writes a value once, now, and reads it back. Asks first: it moves something in the field. */
function WriteNow({ gateway, link, device, point, canBeRelinquished }: Omit<TrialPanelProps, "label"> & { canBeRelinquished: boolean }) {
  const [typed, setTyped] = useState("");
  const write = useMutation({
    mutationFn: (value: number | boolean | string | null) =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/trials/write", {
          params: { path: { gateway } },
          body: { link, device, point, value },
        }),
      ),
  });
  return (
    <div className="grid gap-2">
      <div className="flex flex-wrap items-center gap-3">
        <Confirm
          title={`Write ${typed.trim()} to ${String(point.address)}?`}
          action="Write it"
          onConfirm={() => write.mutate(typedValue(typed))}
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
          <input value={typed} onChange={(event) => setTyped(event.target.value)} className="h-9 max-md:h-11 w-24 rounded-md border border-line-strong bg-raised px-2 text-ink" />
        </label>
        {canBeRelinquished ? (
          <Confirm
            title={`Relinquish ${String(point.address)}?`}
            action="Relinquish it"
            onConfirm={() => write.mutate(null)}
            trigger={
              <Button quiet disabled={write.isPending}>
                Relinquish it
              </Button>
            }
          >
            Our slot of its priority array becomes empty; the next priority that holds a value takes over, or the device itself.
          </Confirm>
        ) : null}
      </div>
      {write.data ? <WriteOutcome of={write.data} isGivenBack={write.variables === null} /> : null}
      <Failure error={write.error} />
    </div>
  );
}
