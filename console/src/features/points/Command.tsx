import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf, type PointView } from "../../api/client";
import { Asked } from "../../components/Confirm";
import { Button, CONTROL, Field } from "../../components/Form";
import { Failure } from "../devices/Failure";
import { typedValue, WriteOutcome } from "../devices/WriteOutcome";
import { useServiceNow } from "../../live/live";
import { span, value as shownValue } from "../../text/format";
import { useMay } from "../session/may";

type Wanted = number | boolean | string | null;

/** Sends a value to the field: asked for once, as the point says, checked, written ahead of the polls, and read back. */
export function Command({ point }: { point: PointView }) {
  const may = useMay("operator");
  const [typed, setTyped] = useState("");
  const [asked, setAsked] = useState<{ value: Wanted } | null>(null);
  const now = useServiceNow();
  const { gateway, device, name } = point;
  const write = useMutation({
    mutationFn: (value: Wanted) =>
      dataOf(api.PUT("/api/v1/points/{gateway}/{device}/{point}/value", { params: { path: { gateway, device, point: name } }, body: { value } })),
  });
  if (!may || !point.writable) return null;
  const ask = (value: Wanted) => (point.confirm === "none" ? write.mutate(value) : setAsked({ value }));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    ask(typedValue(typed));
  };
  return (
    <section aria-label="Command" className="grid gap-2">
      <h3 className="text-xs font-semibold tracking-widest text-faint uppercase">Command</h3>
      {point.type === "bool" ? (
        <div className="flex gap-2">
          <Button quiet disabled={write.isPending} onClick={() => ask(true)}>
            Switch on
          </Button>
          <Button quiet disabled={write.isPending} onClick={() => ask(false)}>
            Switch off
          </Button>
        </div>
      ) : (
        <form onSubmit={submit} className="flex items-center gap-2">
          <input aria-label={`New value of ${name}`} value={typed} onChange={(event) => setTyped(event.target.value)} className={`${CONTROL} w-28`} />
          <span className="text-sm text-soft">{point.unit}</span>
          <Button type="submit" disabled={write.isPending || typed.trim() === ""}>
            {write.isPending ? "Writing …" : "Write"}
          </Button>
        </form>
      )}
      {point.relinquishable ? (
        <Button quiet className="justify-self-start" disabled={write.isPending} onClick={() => ask(null)}>
          Relinquish
        </Button>
      ) : null}
      {point.commanded_until != null && point.commanded_until > now ? (
        <p className="text-sm text-soft">The commanded value holds for {span(point.commanded_until - now)} more; then the safe value is written.</p>
      ) : null}
      {asked ? (
        <Question
          point={point}
          wanted={asked.value}
          onLeave={() => setAsked(null)}
          onWrite={() => {
            setAsked(null);
            write.mutate(asked.value);
          }}
        />
      ) : null}
      <div aria-live="polite">
        {write.data ? <WriteOutcome of={write.data} isGivenBack={write.variables === null} /> : null}
        <Failure error={write.error} />
      </div>
    </section>
  );
}

interface QuestionProps {
  point: PointView;
  wanted: Wanted;
  onLeave: () => void;
  onWrite: () => void;
}

/** Whether it is meant: what it is now, and what it is to be. */
function Question({ point, wanted, onLeave, onWrite }: QuestionProps) {
  const [again, setAgain] = useState("");
  const to = wanted === null ? "given back" : typeof wanted === "boolean" ? (wanted ? "on" : "off") : `${wanted} ${point.unit}`.trim();
  const plain = wanted === null ? "relinquish" : typeof wanted === "boolean" ? to : String(wanted);
  const isMeant = point.confirm !== "typed" || again.trim() === plain;
  return (
    <Asked title={`Command ${point.name} of ${point.device}?`} action={wanted === null ? "Give it back" : "Write it"} isReady={isMeant} onLeave={onLeave} onConfirm={onWrite}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-ink">
        <dt className="text-soft">Now</dt>
        <dd className="tabular-nums">
          {shownValue(point.value, point.decimals)} {point.unit}
          {point.quality === "good" ? "" : ` (${point.quality})`}
        </dd>
        <dt className="text-soft">To be</dt>
        <dd className="font-semibold tabular-nums">{to}</dd>
      </dl>
      {point.confirm === "typed" ? (
        <div className="mt-3 text-ink">
          <Field label={`Type ${plain} to confirm`} value={again} onChange={(event) => setAgain(event.target.value)} />
        </div>
      ) : null}
    </Asked>
  );
}
