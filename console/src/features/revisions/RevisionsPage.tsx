import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, dataOf } from "../../api/client";
import { differenceQuery, outcomeQuery, revisionsQuery } from "../../api/queries";
import { Button, Choice, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { Pick } from "../../components/Pick";
import { date } from "../../text/format";
import { DifferenceView } from "../changes/DifferenceView";
import { OutcomePanel } from "../changes/OutcomePanel";
import { refresh } from "../description/edits";
import { GatewayPage } from "../gateways/GatewayPage";
import { useMay } from "../session/may";

/** What ran when, who activated it and why; what differs between two of them; and the way back. */
export function RevisionsPage() {
  return (
    <GatewayPage title="Revisions">
      {({ gateway, draft }) => <Revisions key={gateway} gateway={gateway} active={draft.active ?? null} />}
    </GatewayPage>
  );
}

function Revisions({ gateway, active }: { gateway: string; active: number | null }) {
  const [search, setSearch] = useSearchParams();
  const revisions = useQuery(revisionsQuery(gateway));
  const [activated, setActivated] = useState<{ before: number | null } | null>(null);
  if (revisions.isPending) return <Loading what="revisions" />;
  if (revisions.isError && !revisions.data) return <Notice tone="alarm" title={revisions.error.message} />;
  const numbers = revisions.data.map((revision) => String(revision.number));
  const after = search.get("after") ?? numbers[0] ?? "";
  const before = search.get("before") ?? numbers[numbers.indexOf(after) + 1] ?? "nothing";
  const compare = (changes: Record<string, string>) => setSearch({ gateway, before, after, ...changes });
  if (revisions.data.length === 0) return <Notice title="Nothing was activated yet" />;
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[minmax(18rem,2fr)_minmax(0,3fr)]">
      <ol aria-label="Revisions" className="grid gap-2">
        {revisions.data.map((revision) => {
          const number = String(revision.number);
          return (
            <Pick
              key={number}
              isPicked={number === after}
              onPick={() => setSearch({ gateway, after: number })}
              title={
                <>
                  <span className="font-semibold">Revision {number}</span>
                  {revision.number === active ? <span className="text-soft">runs</span> : null}
                </>
              }
            >
              <span className="w-full text-base text-ink">{revision.note || "No note"}</span>
              <span>
                {revision.author}, {date(revision.activated_at)}
              </span>
            </Pick>
          );
        })}
      </ol>
      <div className="grid gap-4">
        <Panel title={`Revision ${after}`} beside={<Download gateway={gateway} number={Number(after)} />}>
          <div className="mb-4 max-w-60">
            <Choice label="Compared with" value={before} onChange={(event) => compare({ before: event.target.value })}>
              {numbers.filter((number) => number !== after).map((number) => (
                <option key={number} value={number}>
                  revision {number}
                </option>
              ))}
              <option value="nothing">nothing</option>
              <option value="draft">the draft</option>
            </Choice>
          </div>
          <Compared {...{ gateway, before, after }} />
        </Panel>
        {Number(after) === active ? null : (
          <ActivateAgain gateway={gateway} number={Number(after)} onActivated={() => setActivated({ before: active })} />
        )}
        {activated ? <OutcomePanel gateway={gateway} before={activated.before} /> : null}
      </div>
    </div>
  );
}

function Compared({ gateway, before, after }: { gateway: string; before: string; after: string }) {
  const difference = useQuery(differenceQuery(gateway, before, after));
  if (difference.isPending) return <Loading what="what differs" />;
  if (difference.isError && !difference.data) return <Notice tone="alarm" title={difference.error.message} />;
  return <DifferenceView difference={difference.data} gateway={gateway} />;
}

/** Gives the files of a revision, one after the other. */
function Download({ gateway, number }: { gateway: string; number: number }) {
  const download = useMutation({
    mutationFn: () =>
      dataOf(api.GET("/api/v1/gateways/{gateway}/revisions/{number}", { params: { path: { gateway, number } } })),
    onSuccess: ({ files }) => {
      for (const [path, text] of Object.entries(files)) save(path.replaceAll("/", "-"), text);
    },
  });
  return (
    <Button quiet onClick={() => download.mutate()} disabled={download.isPending}>
      Save its files
    </Button>
  );
}

/** Hands a text to the browser as a file. */
export function save(name: string, text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/plain" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

function ActivateAgain({ gateway, number, onActivated }: { gateway: string; number: number; onActivated: () => void }) {
  const [note, setNote] = useState("");
  const may = useMay("engineer");
  const queries = useQueryClient();
  const [, setSearch] = useSearchParams();
  const activate = useMutation({
    mutationFn: () =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/activations", {
          params: { path: { gateway } },
          body: { revision: number, note: note || `revision ${number} again` },
        }),
      ),
    onSuccess: async (view) => {
      onActivated();
      await queries.invalidateQueries({ queryKey: outcomeQuery(gateway).queryKey });
      await refresh(queries, gateway);
      setSearch({ gateway, after: String(view.revision) });
    },
  });
  if (!may) return null;
  return (
    <Panel title={`Activate revision ${number} again`}>
      <div className="grid gap-3">
        <p className="text-sm text-soft">
          It gets a new number. Edits of the draft that are not activated are lost.
        </p>
        <Field label="Why" value={note} onChange={(event) => setNote(event.target.value)} />
        {activate.isError ? <Notice tone="alarm" title={activate.error.message} /> : null}
        <Button quiet disabled={activate.isPending} onClick={() => activate.mutate()} className="justify-self-start">
          {activate.isPending ? "Activating …" : `Activate revision ${number} again`}
        </Button>
      </div>
    </Panel>
  );
}
