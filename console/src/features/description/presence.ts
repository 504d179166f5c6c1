import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, dataOf, type Editor } from "../../api/client";
import { draftQuery } from "../../api/queries";
import { refresh } from "./edits";

/** One name a tab, the same after a reload. */
function tabName(): string {
  const known = sessionStorage.getItem("tab");
  if (known) return known;
  const made = Math.random().toString(36).slice(2);
  sessionStorage.setItem("tab", made);
  return made;
}

/** How often a tab says that it is still there; the service takes it for closed after three times that. */
const HEARTBEAT = 5000;
/** What is open in this tab, the newest last. */
const open: string[] = [];

/** Says what is open here, for the others to see, as long as it is. */
export function useAnnounce(place: string) {
  const queries = useQueryClient();
  useEffect(() => {
    open.push(place);
    void queries.invalidateQueries({ queryKey: ["presence"] });
    return () => {
      open.splice(open.lastIndexOf(place), 1);
    };
  }, [queries, place]);
}

/** What the others have open of a gateway. When the draft has moved, everything about it is looked at anew. */
export function useOthers(gateway: string): Editor[] {
  const queries = useQueryClient();
  const presence = useQuery({
    queryKey: ["presence", gateway],
    queryFn: () => {
      const body = { tab: tabName(), place: open.at(-1) ?? "" };
      return dataOf(api.PUT("/api/v1/gateways/{gateway}/draft/presence", { params: { path: { gateway } }, body }));
    },
    refetchInterval: HEARTBEAT,
    enabled: gateway !== "",
  });
  const version = presence.data?.version;
  useEffect(() => {
    const known = queries.getQueryData(draftQuery(gateway).queryKey)?.version;
    if (version !== undefined && known !== undefined && version > known) void refresh(queries, gateway);
  }, [queries, gateway, version]);
  return presence.data?.editors ?? [];
}
