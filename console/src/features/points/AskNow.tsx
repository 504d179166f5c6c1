import { useMutation } from "@tanstack/react-query";
import { api, dataOf, type PointView } from "../../api/client";
import { Button } from "../../components/Form";
import { Failure } from "../devices/Failure";
import { WhatItSaid } from "../devices/WhatItSaid";
import { useMay } from "../session/may";

/** Asks the device for a point now: what it says beside the value, such as who holds which priority. */
export function AskNow({ point }: { point: PointView }) {
  const { gateway, device, name } = point;
  const asked = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/points/{gateway}/{device}/{point}/ask", { params: { path: { gateway, device, point: name } } })),
  });
  if (!useMay("operator")) return null;
  return (
    <section aria-label="From the device" aria-live="polite" className="grid gap-2">
      <div>
        <Button quiet disabled={asked.isPending} onClick={() => asked.mutate()}>
          {asked.isPending ? "Asking …" : "Ask the device now"}
        </Button>
      </div>
      {asked.data ? <WhatItSaid reading={asked.data.reading} link={{ protocol: asked.data.protocol }} /> : null}
      <Failure error={asked.error} />
    </section>
  );
}
