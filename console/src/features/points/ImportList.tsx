import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { api, type Content, dataOf, type DraftView, type ImportView } from "../../api/client";
import { gatewayKey } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { useReturnFocus } from "../../components/focus";
import { Button, Choice } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { textOf } from "../../text/file";
import { count } from "../../text/format";
import { namesOf, refresh } from "../description/edits";
import { fieldsOf, shown } from "../description/schema";
import { ListText } from "../devices/ListText";

interface ImportListProps {
  gateway: string;
  draft: DraftView;
  list: string;
  /** The schema of the points: what columns can be. */
  schema: unknown;
  start?: string;
  /** A device that is not in the draft yet, and its link: the rows go to whoever asks for them. */
  of?: { device: Content; link: Content; onRows: (rows: Content[]) => void };
  onDone: () => void;
}

/** As many as one looks through; the rest is counted. */
const SHOWN = 60;
const TABLES = ["holding", "input", "coil", "discrete"];

/** Takes a list from a manual or a spreadsheet over, with a preview: what its columns are, what is new, what changes, what goes, and what is wrong where. */
export function ImportList({ gateway, draft, list, schema, start = "", of, onDone }: ImportListProps) {
  const [text, setText] = useState(start);
  const [removesOthers, setRemovesOthers] = useState(false);
  const [columns, setColumns] = useState<Record<string, string>>({});
  const rates = namesOf(draft).rate;
  const [rate, setRate] = useState("");
  const [table, setTable] = useState("");
  useReturnFocus();
  const asked = useDeferredValue(text);
  const queries = useQueryClient();
  const body = { list, text: asked, remove_others: removesOthers, columns, rate: rate || null, table: table || null };
  const send = (version: number | null) =>
    dataOf(
      api.POST("/api/v1/gateways/{gateway}/draft/import", {
        params: { path: { gateway } },
        body: { ...body, version, ...(of ? { device: of.device, link: of.link } : {}) },
      }),
    );
  const preview = useQuery({
    queryKey: [...gatewayKey(gateway), "import", body, of?.device, draft.version],
    queryFn: () => send(null),
    enabled: asked.trim() !== "",
    placeholderData: (before) => before,
  });
  const take = useMutation({ mutationFn: () => send(draft.version), onSettled: () => refresh(queries, gateway), onSuccess: onDone });
  const result = asked.trim() === "" ? undefined : preview.data;
  const missing = (result?.without_rate ?? 0) + (result?.without_table ?? 0);
  const mistakes = result?.problems.filter((problem) => problem.severity === "mistake").length ?? 0;
  const changes = result ? result.added.length + result.changed.length + result.removed.length : 0;
  const error = take.error ?? preview.error;
  const accept = () => {
    if (!of) return take.mutate();
    of.onRows((result?.rows ?? []) as Content[]);
    onDone();
  };
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
        {of ? null : (
          <label className="flex items-center gap-2">
            <input type="checkbox" checked={removesOthers} onChange={(event) => setRemovesOthers(event.target.checked)} className="size-4 accent-(--act)" />
            Points that it does not name go
          </label>
        )}
      </div>
      {error ? <Notice tone="alarm" title={error.message} /> : null}
      {result ? (
        <Columns
          of={result}
          keys={fieldsOf(schema).map((field) => ({ key: field.key, label: field.label }))}
          onChoose={(heading, key) => setColumns({ ...columns, [heading]: key })}
        />
      ) : null}
      {result && (result.without_rate > 0 || rate !== "" || result.without_table > 0 || table !== "") ? (
        <div className="grid max-w-xl gap-3 sm:grid-cols-2">
          {result.without_rate > 0 || rate !== "" ? (
            <Choice
              label="Rate"
              help={result.without_rate > 0 ? `${count(result.without_rate, "row")} without one` : "For all rows that have none."}
              value={rate}
              onChange={(event) => setRate(event.target.value)}
            >
              <option value="">Choose</option>
              {(rates.length > 0 ? rates : ["normal"]).map((known) => (
                <option key={known}>{known}</option>
              ))}
            </Choice>
          ) : null}
          {result.without_table > 0 || table !== "" ? (
            <Choice
              label="Plain numbers are"
              help={result.without_table > 0 ? `${count(result.without_table, "address", "addresses")} without a table; the first register is 0` : "The first register is 0."}
              value={table}
              onChange={(event) => setTable(event.target.value)}
            >
              <option value="">Choose</option>
              {TABLES.map((known) => (
                <option key={known}>{known}</option>
              ))}
            </Choice>
          ) : null}
        </div>
      ) : null}
      {result ? <Preview of={result} /> : null}
      <div className="flex flex-wrap items-center gap-3">
        <Button disabled={take.isPending || changes === 0 || mistakes > 0 || missing > 0} onClick={accept}>
          {take.isPending ? "Saving …" : of ? `Take over ${count(result?.rows.length ?? 0, "point")}` : "Take over into the draft"}
        </Button>
        <Button quiet onClick={onDone}>
          Leave it
        </Button>
        <p role="status" className="text-sm text-soft">
          {result
            ? `${result.added.length} added, ${result.changed.length} changed, ${result.removed.length} removed, ${result.same} the same${mistakes > 0 ? `; ${count(mistakes, "mistake")} first` : ""}`
            : "A heading first, as the manual has it; commas, semicolons or tabs between cells."}
        </p>
      </div>
    </div>
  );
}

interface ColumnsProps {
  of: ImportView;
  keys: { key: string; label: string }[];
  onChoose: (heading: string, key: string) => void;
}

/** What was made of the columns, and what else they can be. */
function Columns({ of, keys, onChoose }: ColumnsProps) {
  return (
    <ul aria-label="Columns" className="flex gap-3 overflow-x-auto pb-1">
      {of.columns.map((column, at) => (
        <li key={`${column.heading}-${at}`} className="grid w-36 shrink-0 content-start gap-1 text-sm">
          <span className="truncate font-medium" title={column.heading}>
            {column.heading || "no heading"}
          </span>
          <select
            aria-label={`What ${column.heading} is`}
            value={column.key ?? ""}
            onChange={(event) => onChoose(column.heading, event.target.value)}
            className={`h-9 rounded-md border bg-surface px-2 ${column.key ? "border-line-strong" : "border-warn text-warn"}`}
          >
            <option value="">left out</option>
            {keys.map(({ key, label }) => (
              <option key={key} value={key}>
                {label}
              </option>
            ))}
          </select>
          <span className="truncate font-mono text-xs text-soft" title={column.example}>
            {column.example || "–"}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Preview({ of }: { of: ImportView }) {
  const changes = of.changed.map((change) => ({
    name: change.name,
    text: change.fields.map((field) => `${field.field} ${shown(field.before) || "–"} → ${shown(field.after) || "–"}`).join(", "),
  }));
  const row = (name: string) => (of.rows as Content[]).find((row) => row.name === name);
  const words = (name: string) => {
    const own = row(name);
    return own ? [own.address, own.type, own.unit, own.title].map(shown).filter(Boolean).join(" · ") : "new";
  };
  const lines: { mark: string; name: string; text: string }[] = [
    ...of.added.map((name) => ({ mark: "+", name, text: words(name) })),
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
