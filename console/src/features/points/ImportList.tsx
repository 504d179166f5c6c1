import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { api, dataOf, type DraftView, type PointsImport } from "../../api/client";
import { gatewayKey } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Button } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { textOf } from "../../text/file";
import { count } from "../../text/format";
import { refresh } from "../description/edits";
import { shown } from "../description/schema";
import { ListText } from "../devices/ListText";

interface ImportListProps {
  gateway: string;
  draft: DraftView;
  list: string;
  start?: string;
  onDone: () => void;
}

/** As many as one looks through; the rest is counted. */
const SHOWN = 60;

/** Takes a list from a spreadsheet over, with a preview: what is new, what changes, what goes, and what is wrong where. */
export function ImportList({ gateway, draft, list, start = "", onDone }: ImportListProps) {
  const [text, setText] = useState(start);
  const [removesOthers, setRemovesOthers] = useState(false);
  const asked = useDeferredValue(text);
  const queries = useQueryClient();
  const body = { list, text: asked, remove_others: removesOthers };
  const send = (version: number | null) =>
    dataOf(api.POST("/api/v1/gateways/{gateway}/draft/import", { params: { path: { gateway } }, body: { ...body, version } }));
  const preview = useQuery({
    queryKey: [...gatewayKey(gateway), "import", list, asked, removesOthers, draft.version],
    queryFn: () => send(null),
    enabled: asked.trim() !== "",
    placeholderData: (before) => before,
  });
  const take = useMutation({ mutationFn: () => send(draft.version), onSettled: () => refresh(queries, gateway), onSuccess: onDone });
  const result = asked.trim() === "" ? undefined : preview.data;
  const mistakes = result?.problems.filter((problem) => problem.severity === "mistake").length ?? 0;
  const changes = result ? result.added.length + result.changed.length + result.removed.length : 0;
  const error = take.error ?? preview.error;
  return (
    <div className="grid gap-3 rounded-md border border-line-strong bg-raised p-4">
      <ListText text={text} onText={setText} />
      <div className="flex flex-wrap items-center gap-4 text-sm">
        <label className="cursor-pointer text-act underline">
          Open a file
          <input
            type="file"
            accept=".csv,.txt,text/csv"
            className="sr-only"
            onChange={(event) => {
              const file = event.target.files?.[0];
              if (file) void textOf(file).then(setText);
            }}
          />
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={removesOthers} onChange={(event) => setRemovesOthers(event.target.checked)} className="size-4 accent-(--act)" />
          Points that it does not name go
        </label>
      </div>
      {error ? <Notice tone="alarm" title={error.message} /> : null}
      {result ? <Preview of={result} /> : null}
      <div className="flex flex-wrap items-center gap-3">
        <Button disabled={take.isPending || changes === 0 || mistakes > 0} onClick={() => take.mutate()}>
          {take.isPending ? "Saving …" : "Take over into the draft"}
        </Button>
        <Button quiet onClick={onDone}>
          Leave it
        </Button>
        <p role="status" className="text-sm text-soft">
          {result
            ? `${result.added.length} added, ${result.changed.length} changed, ${result.removed.length} removed, ${result.same} the same${mistakes > 0 ? `; ${count(mistakes, "mistake")} first` : ""}`
            : "Columns as in the files; commas, semicolons or tabs between cells."}
        </p>
      </div>
    </div>
  );
}

function Preview({ of }: { of: PointsImport }) {
  const changes = of.changed.map((change) => ({
    name: change.name,
    text: change.fields.map((field) => `${field.field} ${shown(field.before) || "–"} → ${shown(field.after) || "–"}`).join(", "),
  }));
  const lines: { mark: string; name: string; text: string }[] = [
    ...of.added.map((name) => ({ mark: "+", name, text: "new" })),
    ...changes.map((change) => ({ mark: "~", ...change })),
    ...of.removed.map((name) => ({ mark: "−", name, text: "goes" })),
  ];
  return (
    <>
      {of.problems.length > 0 ? (
        <ul aria-label="What is wrong" className="grid max-h-60 gap-1 overflow-auto text-sm">
          {of.problems.slice(0, SHOWN).map((problem) => (
            <li key={`${problem.line}:${problem.column}:${problem.message}`}>
              <Badge tone={problem.severity === "mistake" ? "alarm" : "warn"}>{problem.line > 0 ? `line ${problem.line}, column ${problem.column}` : problem.object}</Badge>{" "}
              {problem.message}; expected {problem.expected}
            </li>
          ))}
          {of.problems.length > SHOWN ? <li className="text-soft">and {of.problems.length - SHOWN} more</li> : null}
        </ul>
      ) : null}
      {lines.length > 0 ? (
        <ul aria-label="What would change" className="grid max-h-60 overflow-auto text-sm">
          {lines.slice(0, SHOWN).map((line) => (
            <li key={`${line.mark}${line.name}`} className="grid grid-cols-[1rem_minmax(6rem,12rem)_minmax(0,1fr)] gap-x-2 border-b border-line py-1">
              <span aria-hidden="true">{line.mark}</span>
              <span className="truncate font-medium">{line.name}</span>
              <span className="text-soft">{line.text}</span>
            </li>
          ))}
          {lines.length > SHOWN ? <li className="py-1 text-soft">and {lines.length - SHOWN} more</li> : null}
        </ul>
      ) : null}
    </>
  );
}
