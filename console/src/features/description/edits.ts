import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, dataOf, type DraftView, type EditRequest, type Forms, type ObjectClass, type ObjectView } from "../../api/client";
import { gatewayKey, gatewaysQuery } from "../../api/queries";

/** Edits the draft of a gateway: all of the edits are done, or none. */
export function useEdits(gateway: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (edits: EditRequest[]) =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/draft/edits", { params: { path: { gateway } }, body: { edits } })),
    onSettled: () => refresh(queries, gateway),
  });
}

/** Looks anew at everything that an edit may have changed. */
export async function refresh(queries: ReturnType<typeof useQueryClient>, gateway: string) {
  await Promise.all([
    queries.invalidateQueries({ queryKey: gatewayKey(gateway) }),
    queries.invalidateQueries({ queryKey: gatewaysQuery.queryKey }),
  ]);
}

export const objectsOf = (draft: DraftView, wanted: ObjectClass): ObjectView[] =>
  draft.objects.filter((object) => object.class === wanted);

export const namesOf = (draft: DraftView) => ({
  link: objectsOf(draft, "link").map((object) => object.name),
  rate: objectsOf(draft, "rate").map((object) => object.name),
});

/** The schema of an object: for links and uplinks by their kind, for devices by that of their link. */
export function schemaOf(forms: Forms, draft: DraftView, wanted: ObjectClass, content: Record<string, unknown>): unknown {
  switch (wanted) {
    case "gateway":
      return forms.gateway;
    case "rate":
      return forms.rate;
    case "point":
      return forms.point;
    case "link":
      return forms.links.find((kind) => kind.word === content.protocol)?.schema;
    case "uplink":
      return forms.uplinks.find((kind) => kind.word === content.kind)?.schema;
    case "device": {
      const link = objectsOf(draft, "link").find((object) => object.name === content.link);
      const protocol = contentOf(link).protocol;
      return (forms.links.find((kind) => kind.word === protocol) ?? forms.links[0])?.device;
    }
  }
}

export function contentOf(object: ObjectView | undefined): Record<string, unknown> {
  const content = object?.content;
  return typeof content === "object" && content !== null ? (content as Record<string, unknown>) : {};
}
