import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { outcomeQuery } from "../../api/queries";
import { Button } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { State } from "../../components/State";
import { refresh } from "../description/edits";

const LOOK = 500;

/** How an activation goes: link by link, as it comes up, with the way back when something does not. */
export function OutcomePanel({ gateway, before }: { gateway: string; before: number | null }) {
  const outcome = useQuery({
    ...outcomeQuery(gateway),
    refetchInterval: (query) => (query.state.data?.progress === "done" ? false : LOOK),
  });
  const queries = useQueryClient();
  const back = useMutation({
    mutationFn: (revision: number) =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/activations", {
          params: { path: { gateway } },
          body: { revision, note: `return to revision ${revision}` },
        }),
      ),
    onSettled: async () => {
      await queries.invalidateQueries({ queryKey: outcomeQuery(gateway).queryKey });
      await refresh(queries, gateway);
    },
  });
  if (!outcome.data) return <Loading what="how it goes" />;
  const { revision, progress, links, uplinks } = outcome.data;
  const parts = [...links.map((part) => ({ what: "link", ...part })), ...uplinks.map((part) => ({ what: "uplink", ...part }))];
  return (
    <Panel title={`Revision ${revision}`}>
      <p role="status" className="mb-3 text-soft">
        {progress === "done" ? "Everything that changed is up." : progress === "waiting" ? "Coming up …" : "Something does not come up; it goes on trying."}
      </p>
      <ul className="grid gap-1 text-sm">
        {parts.map((part) => (
          <li key={part.what + part.name} className="flex flex-wrap items-center gap-x-2">
            <span className="text-soft">{part.what}</span>
            <span className="font-medium">{part.name}</span>
            <span className="text-soft">{part.fate}</span>
            {part.state ? <State word={part.state} /> : null}
            {part.error ? <span className="text-alarm">{part.error}</span> : null}
          </li>
        ))}
      </ul>
      {back.isError ? <Notice tone="alarm" title={back.error.message} /> : null}
      {progress === "failing" && before !== null && before !== revision ? (
        <Button quiet className="mt-3" disabled={back.isPending} onClick={() => back.mutate(before)}>
          Return to revision {before}
        </Button>
      ) : null}
    </Panel>
  );
}
