import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, dataOf, type DraftView, type EditRequest, type Forms, type ObjectClass, type ObjectView } from "../../api/client";
import { gatewayKey, gatewaysQuery } from "../../api/queries";
import { shown } from "./schema";

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

/** The form of the link that a device is behind; the first one where it names none. */
export function kindOf(forms: Forms, draft: DraftView, device: Record<string, unknown>) {
  const link = objectsOf(draft, "link").find((object) => object.name === device.link);
  const protocol = contentOf(link).protocol;
  return forms.links.find((kind) => kind.word === protocol) ?? forms.links[0];
}

/** The schema of the points of a list: by the link of a device that uses it. */
export function pointSchema(forms: Forms, draft: DraftView, list: string): unknown {
  const user = draft.lists.find((known) => known.path === list)?.devices[0];
  const device = objectsOf(draft, "device").find((object) => object.name === user);
  return device ? kindOf(forms, draft, contentOf(device))?.point : forms.point;
}

/** The schema of an object: for links and uplinks by their kind, for devices and points by that of their link. */
export function schemaOf(forms: Forms, draft: DraftView, wanted: ObjectClass, content: Record<string, unknown>, list: string): unknown {
  switch (wanted) {
    case "gateway":
      return forms.gateway;
    case "rate":
      return forms.rate;
    case "point":
      return pointSchema(forms, draft, list);
    case "link":
      return forms.links.find((kind) => kind.word === content.protocol)?.schema;
    case "uplink":
      return forms.uplinks.find((kind) => kind.word === content.kind)?.schema;
    case "device":
      return kindOf(forms, draft, content)?.device;
  }
}

export function contentOf(object: ObjectView | undefined): Record<string, unknown> {
  const content = object?.content;
  return typeof content === "object" && content !== null ? (content as Record<string, unknown>) : {};
}

/** The point list of a device: the one that it names, or the one that is called after it. */
export const listOf = (device: ObjectView): string => shown(contentOf(device).points) || `points/${device.name}.csv`;
