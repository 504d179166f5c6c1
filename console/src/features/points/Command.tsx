import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf, type PointView } from "../../api/client";
import { Button, CONTROL } from "../../components/Form";
import { Failure } from "../devices/Failure";
import { typedValue, WriteOutcome } from "../devices/WriteOutcome";
import { useServiceNow } from "../../live/live";
import { span } from "../../text/format";
import { useMay } from "../session/may";

/** Sends a value to the field: checked, written ahead of the polls, and read back. */
export function Command({ point }: { point: PointView }) {
  const may = useMay("operator");
  const [typed, setTyped] = useState("");
  const now = useServiceNow();
  const { gateway, device, name } = point;
  const write = useMutation({
    mutationFn: (value: number | boolean | string | null) =>
      dataOf(api.PUT("/api/v1/points/{gateway}/{device}/{point}/value", { params: { path: { gateway, device, point: name } }, body: { value } })),
  });
  if (!may || !point.writable) return null;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    write.mutate(typedValue(typed));
  };
  return (
    <section aria-label="Command" className="grid gap-2">
      <h3 className="text-xs font-semibold tracking-widest text-faint uppercase">Command</h3>
      {point.type === "bool" ? (
        <div className="flex gap-2">
          <Button quiet disabled={write.isPending} onClick={() => write.mutate(true)}>
            Switch on
          </Button>
          <Button quiet disabled={write.isPending} onClick={() => write.mutate(false)}>
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
        <Button quiet className="justify-self-start" disabled={write.isPending} onClick={() => write.mutate(null)}>
          Relinquish
        </Button>
      ) : null}
      {point.commanded_until != null && point.commanded_until > now ? (
        <p className="text-sm text-soft">The commanded value holds for {span(point.commanded_until - now)} more; then the safe value is written.</p>
      ) : null}
      <div aria-live="polite">
        {write.data ? <WriteOutcome of={write.data} isGivenBack={write.variables === null} /> : null}
        <Failure error={write.error} />
      </div>
    </section>
  );
}
