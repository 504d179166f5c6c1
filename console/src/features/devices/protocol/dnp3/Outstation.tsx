import { useMutation } from "@tanstack/react-query";
import { api, type Content, type DeviceAct, dataOf } from "../../../../api/client";
import { Confirm } from "../../../../components/Confirm";
import { Button } from "../../../../components/Form";
import { FrameLines } from "../../../../components/FrameLines";
import { shown } from "../../../description/schema";
import { Failure } from "../../Failure";
import { Identity } from "../Identity";

const ASKS: [DeviceAct, string][] = [
  ["link-status", "Link status"],
  ["read-everything", "Read everything"],
];

const TELLS: [DeviceAct, string, string][] = [
  ["freeze-counters", "Freeze counters", "What they count now can be read as frozen counters; they go on counting."],
  ["freeze-and-clear-counters", "Freeze and clear", "What they count now can be read as frozen counters; they count from nothing on."],
  ["warm-restart", "Warm restart", "It starts its program anew. Until it is there again it tells nothing, and outputs may fall back."],
  ["cold-restart", "Cold restart", "It starts anew as if it had been switched off. Until it is there again it tells nothing, and outputs fall back."],
];

/** Who an outstation is, and what it can be asked and told beside its points. */
export function Outstation({ gateway, link, device }: { gateway: string; link: Content; device: Content }) {
  const name = shown(device.name);
  const act = useMutation({
    mutationFn: ({ what, confirm }: { what: DeviceAct; confirm?: string }) =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/trials/act", {
          params: { path: { gateway } },
          body: { link, device, act: what, ...(confirm === undefined ? {} : { confirm }) },
        }),
      ),
  });
  return (
    <div className="grid gap-3">
      <Identity {...{ gateway, link, device }} />
      <div className="flex flex-wrap gap-2">
        {ASKS.map(([what, title]) => (
          <Button key={what} quiet disabled={act.isPending} onClick={() => act.mutate({ what })}>
            {title}
          </Button>
        ))}
        {TELLS.map(([what, title, means]) => (
          <Confirm
            key={what}
            title={`${title}: ${name}?`}
            action={title}
            onConfirm={() => act.mutate({ what, confirm: name })}
            trigger={
              <Button quiet disabled={act.isPending}>
                {title} …
              </Button>
            }
          >
            {means}
          </Confirm>
        ))}
      </div>
      <div className="grid gap-2" aria-live="polite">
        {act.isPending ? <p className="text-sm text-soft">Asking …</p> : null}
        {act.data ? (
          <>
            <p className="text-sm">
              {name}: {act.data.said} <span className="text-soft">in {act.data.answer_ms} ms</span>
            </p>
            <FrameLines frames={act.data.frames} label="On the line" />
          </>
        ) : null}
        <Failure error={act.error} />
      </div>
    </div>
  );
}
