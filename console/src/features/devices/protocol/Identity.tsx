import { useMutation } from "@tanstack/react-query";
import { api, type Content, dataOf } from "../../../api/client";
import { Button } from "../../../components/Form";
import { Failure } from "../Failure";

/** Asks a device what it says about itself. */
export function Identity({ gateway, link, device }: { gateway: string; link: Content; device: Content }) {
  const identity = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/trials/identify", { params: { path: { gateway } }, body: { link, device } })),
  });
  return (
    <div className="grid gap-2" aria-live="polite">
      <Button quiet className="justify-self-start" disabled={identity.isPending} onClick={() => identity.mutate()}>
        {identity.isPending ? "Asking …" : "Ask who it is"}
      </Button>
      {identity.data ? (
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 rounded-md border border-line bg-raised p-3 text-sm">
          {identity.data.objects.map((object) => (
            <div key={object.id} className="contents">
              <dt className="text-soft">{object.name}</dt>
              <dd>{object.value}</dd>
            </div>
          ))}
        </dl>
      ) : null}
      <Failure error={identity.error} />
    </div>
  );
}
