import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ClipboardEvent, Fragment, type KeyboardEvent, useMemo, useRef, useState } from "react";
import { api, type Content, dataOf, type EditRequest, type ObjectView, type Problem, type ReadingView } from "../../api/client";
import { draftPointsQuery, gatewayKey, gatewaysQuery } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Button } from "../../components/Form";
import { Middle } from "../../components/Middle";
import { Notice } from "../../components/Notice";
import { usePlaces } from "../../components/recycle";
import { useReadings } from "../../live/live";
import { count, value } from "../../text/format";
import { contentOf } from "../description/edits";
import { type FormField, fieldsOf, shown, takes } from "../description/schema";
import { bounds, type CellChange, cleared, copied, editsOf, filled, hasHeading, isIn, type Place, pasted, type Range, takenBack } from "./grid";

interface PointsGridProps {
  gateway: string;
  device: string;
  list: string;
  /** The points in view, and all of the list. */
  rows: ObjectView[];
  all: ObjectView[];
  /** The schema of the points. */
  schema: unknown;
  rates: string[];
  problems: ReadonlyMap<string, Problem[]>;
  opened: string | null;
  onOpen: (name: string) => void;
  picked: ReadonlySet<string>;
  /** Nobody may edit without it. */
  onPick: ((names: ReadonlySet<string>) => void) | undefined;
  /** A list with headings was pasted. */
  onList: (text: string) => void;
}

/** A row, for a mouse and for a thumb. */
const HEIGHTS = { fine: 32, thumb: 44 };
const FIRST = ["name", "address", "type", "scale", "unit", "rate", "report", "deadband"];
const WIDTHS: Record<string, number> = { name: 190, address: 140, title: 200, report: 110, enumeration: 180 };
const widthOf = (key: string) => WIDTHS[key] ?? 92;
const VALUE = 140;

/** The points of a list as cells: edited, copied, pasted and filled down as in a spreadsheet, with their values beside them. */
export function PointsGrid({ gateway, device, list, rows, all, schema, rates, problems, opened, onOpen, picked, onPick, onList }: PointsGridProps) {
  const fields = useMemo(() => fieldsOf(schema), [schema]);
  const { keys, choose } = useColumns(fields);
  const columns = useMemo(() => keys.flatMap((key) => fields.find((field) => field.key === key) ?? []), [keys, fields]);
  const [range, setRange] = useState<Range>({ from: { row: 0, column: 0 }, to: { row: 0, column: 0 } });
  const [editing, setEditing] = useState<string | null>(null);
  const scroller = useRef<HTMLDivElement>(null);
  const edits = useGridEdits(gateway, list, all);
  const may = onPick !== undefined;
  const lastPicked = useRef<string | null>(null);
  const height = window.matchMedia("(max-width: 767px)").matches ? HEIGHTS.thumb : HEIGHTS.fine;
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroller.current, estimateSize: () => height, overscan: 4, useFlushSync: false, scrollMargin: height });
  const items = virtual.getVirtualItems();
  const readings = useReadings(items.flatMap((item) => (rows[item.index] ? [`${gateway}/${device}/${rows[item.index]?.name}`] : [])));
  const places = usePlaces(items.length);
  const active = range.to;
  const column = columns[active.column];
  // What it says now stands beside its name.
  const grid = `28px ${columns.map(({ key }) => `${widthOf(key)}px${key === "name" ? ` ${VALUE}px` : ""}`).join(" ")}`;
  const start: Content = rates[0] ? { rate: rates[0] } : {};

  const focus = () => scroller.current?.focus();
  const go = (to: Place, extends_ = false) => {
    const row = Math.min(Math.max(to.row, 0), Math.max(rows.length - 1, 0));
    const at = { row, column: Math.min(Math.max(to.column, 0), columns.length - 1) };
    setRange((before) => ({ from: extends_ ? before.from : at, to: at }));
    virtual.scrollToIndex(row);
  };
  const send = (changes: CellChange[]) => edits.change(editsOf(changes, list, rows, fields, start));
  const commit = (text: string, then: Place) => {
    setEditing(null);
    if (column) send([{ row: active.row, key: column.key, text }]);
    go(then);
    focus();
  };
  const offers = column !== undefined && rows[active.row] !== undefined && takes(column, contentOf(rows[active.row]));

  const onKey = (event: KeyboardEvent) => {
    if (editing !== null || rows.length === 0) return;
    const page = 15;
    const { row, column: at } = active;
    const moves: Record<string, Place> = {
      ArrowDown: { row: event.ctrlKey ? rows.length - 1 : row + 1, column: at },
      ArrowUp: { row: event.ctrlKey ? 0 : row - 1, column: at },
      ArrowRight: { row, column: event.ctrlKey ? columns.length - 1 : at + 1 },
      ArrowLeft: { row, column: event.ctrlKey ? 0 : at - 1 },
      PageDown: { row: row + page, column: at },
      PageUp: { row: row - page, column: at },
      Home: { row: event.ctrlKey ? 0 : row, column: 0 },
      End: { row: event.ctrlKey ? rows.length - 1 : row, column: columns.length - 1 },
    };
    const to = moves[event.key];
    const name = rows[row]?.name;
    const command = event.ctrlKey || event.metaKey ? event.key.toLowerCase() : "";
    if (to) go(to, event.shiftKey);
    else if (command === "a") setRange({ from: { row: 0, column: 0 }, to: { row: rows.length - 1, column: columns.length - 1 } });
    else if (event.key === "o" && event.altKey && name) onOpen(name);
    else if (!may) return;
    else if (command === "d") send(filled(range, rows, columns));
    else if (command === "z" && !event.shiftKey) edits.undo();
    else if (command === "y" || command === "z") edits.redo();
    else if (command !== "" || event.altKey) return;
    else if (event.key === " " && name) pick(name, event.shiftKey);
    else if (event.key === "Delete" || event.key === "Backspace") send(cleared(range, columns));
    else if ((event.key === "Enter" || event.key === "F2") && column && offers) setEditing(shown(contentOf(rows[row])[column.key]));
    else if (event.key.length === 1 && offers) setEditing(event.key);
    else return;
    event.preventDefault();
  };
  const pick = (name: string, isRange: boolean) => {
    const [one, other] = [lastPicked.current, name].map((known) => rows.findIndex((row) => row.name === known)) as [number, number];
    const names = isRange && one >= 0 ? rows.slice(Math.min(one, other), Math.max(one, other) + 1).map((row) => row.name) : [name];
    const after = new Set(picked);
    const isOn = !picked.has(name);
    for (const known of names) {
      if (isOn) after.add(known);
      else after.delete(known);
    }
    lastPicked.current = name;
    onPick?.(after);
  };
  /** Those that a filter hides stay as they are. */
  const pickShown = (isOn: boolean) => {
    const after = new Set(picked);
    for (const { name } of rows) {
      if (isOn) after.add(name);
      else after.delete(name);
    }
    onPick?.(after);
  };
  const onCopy = (event: ClipboardEvent) => {
    if (editing !== null) return;
    event.clipboardData.setData("text/plain", copied(range, rows, columns));
    event.preventDefault();
  };
  const onPaste = (event: ClipboardEvent) => {
    if (editing !== null || !may) return;
    const text = event.clipboardData.getData("text/plain");
    event.preventDefault();
    if (hasHeading(text, fields)) onList(text);
    else send(pasted(text, range, columns));
  };
  const isAll = rows.length > 0 && rows.every((row) => picked.has(row.name));
  const { top, bottom, left, right } = bounds(range);
  const isMany = top !== bottom || left !== right;

  return (
    <div className="grid gap-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 text-sm text-soft">
        <ColumnChoice fields={fields} keys={keys} onChoose={choose} />
        {may ? (
          <>
            <Button quiet disabled={!edits.canUndo || edits.isPending} onClick={edits.undo}>
              Undo
            </Button>
            <Button quiet disabled={!edits.canRedo || edits.isPending} onClick={edits.redo}>
              Redo
            </Button>
          </>
        ) : null}
        <p role="status">
          {edits.isPending ? "Saving …" : [isMany ? `${count((bottom - top + 1) * (right - left + 1), "cell")} marked` : "", edits.saved > 0 ? `${count(edits.saved, "point")} saved to the draft` : ""].filter(Boolean).join("; ") || (may ? "Type, copy, paste; Ctrl+D fills down; Alt+O opens the form" : "")}
        </p>
      </div>
      {edits.error ? <Notice tone="alarm" title={edits.error.message} /> : null}
      <div
        ref={scroller}
        role="grid"
        aria-label="Points of the list"
        aria-rowcount={rows.length + 1}
        aria-colcount={columns.length + 2}
        aria-multiselectable="true"
        aria-activedescendant={rows.length > 0 ? cellId(active.row, active.column) : undefined}
        tabIndex={0}
        onKeyDown={onKey}
        onCopy={onCopy}
        onPaste={onPaste}
        className="max-h-[34rem] overflow-auto rounded-md border border-line text-sm focus-visible:-outline-offset-2"
      >
        <div role="row" aria-rowindex={1} className="sticky top-0 z-10 grid w-max min-w-full border-b border-line-strong bg-ground text-xs text-soft" style={{ gridTemplateColumns: grid, height }}>
          <div role="columnheader" className="grid place-items-center">
            {may ? (
              <input type="checkbox" aria-label="Choose all that are shown" checked={isAll} onChange={() => pickShown(!isAll)} className="size-4 accent-(--act)" />
            ) : (
              <span className="sr-only">Chosen</span>
            )}
          </div>
          {columns.map((field) => (
            <Fragment key={field.key}>
            <div role="columnheader" title={field.help} className={`truncate px-2 leading-[1.9rem] ${field.entry.kind === "number" ? "text-right" : ""} ${field.key === "name" ? "sticky left-0 z-10 bg-ground" : ""}`}>
              {field.label}
            </div>
            {field.key === "name" ? (
              <div role="columnheader" className="px-2 text-right leading-[1.9rem]">
                Value now
              </div>
            ) : null}
            </Fragment>
          ))}
        </div>
        <div role="presentation" className="relative w-max min-w-full" style={{ height: virtual.getTotalSize() }}>
          {items.map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            const content = contentOf(row);
            const wrong = problems.get(row.name) ?? [];
            const ground = row.name === opened || picked.has(row.name) ? "bg-select" : "bg-surface";
            return (
              <div
                key={item.index % places}
                role="row"
                aria-rowindex={item.index + 2}
                aria-selected={picked.has(row.name)}
                className={`absolute left-0 grid w-max contain-layout contain-paint min-w-full border-b border-line ${ground}`}
                style={{ gridTemplateColumns: grid, height, transform: `translateY(${item.start - virtual.options.scrollMargin}px)` }}
              >
                <div role="gridcell" className="grid place-items-center">
                  {may ? (
                    <input
                      type="checkbox"
                      tabIndex={-1}
                      aria-label={`Choose ${row.name}`}
                      checked={picked.has(row.name)}
                      onChange={() => undefined}
                      onClick={(event) => pick(row.name, event.shiftKey)}
                      className="size-4 accent-(--act)"
                    />
                  ) : null}
                </div>
                {columns.map((field, at) => {
                  const isActive = item.index === active.row && at === active.column;
                  return (
                    <Fragment key={field.key}>
                    {isActive && editing !== null ? (
                    <div role="gridcell" id={cellId(item.index, at)} className="relative">
                      <CellEditor
                        field={field}
                        rates={rates}
                        start={editing}
                        onCommit={(text, by) => commit(text, by === "Tab" ? { row: active.row, column: at + 1 } : { row: by === "Enter" ? active.row + 1 : active.row, column: at })}
                        onLeave={() => {
                          setEditing(null);
                          focus();
                        }}
                      />
                    </div>
                  ) : (
                    <Cell
                      id={cellId(item.index, at)}
                      field={field}
                      content={content}
                      problem={wrong.find((problem) => problem.field === field.key) ?? (field.key === "name" ? wrong.find((problem) => !columns.some((known) => known.key === problem.field)) : undefined)}
                      ground={ground}
                      isActive={isActive}
                      isMarked={isIn(range, item.index, at)}
                      isChanged={field.key === "name" && Boolean(row.changed_by)}
                      onFocus={(extends_) => {
                        go({ row: item.index, column: at }, extends_);
                        focus();
                      }}
                      onEdit={() => {
                        if (!may) onOpen(row.name);
                        else if (takes(field, content)) setEditing(shown(content[field.key]));
                      }}
                    />
                  )}
                  {field.key === "name" ? <LiveCell reading={readings.get(`${gateway}/${device}/${row.name}`)} onOpen={() => onOpen(row.name)} name={row.name} /> : null}
                  </Fragment>
                  );
                })}
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

const cellId = (row: number, column: number) => `cell-${row}-${column}`;

interface CellProps {
  id: string;
  field: FormField;
  content: Content;
  problem: Problem | undefined;
  /** What the name, which stays in view, covers the rest of its row with. */
  ground: string;
  isActive: boolean;
  isMarked: boolean;
  isChanged: boolean;
  onFocus: (extends_: boolean) => void;
  onEdit: () => void;
}

function Cell({ id, field, content, problem, ground, isActive, isMarked, isChanged, onFocus, onEdit }: CellProps) {
  const text = shown(content[field.key]);
  const isOffered = takes(field, content);
  const said = problem ? `${problem.message}; expected ${problem.expected}` : undefined;
  const tone = problem ? (problem.severity === "mistake" ? "bg-alarm-ground text-alarm" : "bg-warn-ground text-warn") : isOffered ? "" : "text-faint";
  return (
    <div
      role="gridcell"
      id={id}
      title={said ?? (text || undefined)}
      aria-invalid={problem?.severity === "mistake" || undefined}
      aria-readonly={!isOffered || undefined}
      onMouseDown={(event) => {
        if (event.button !== 0) return;
        event.preventDefault();
        onFocus(event.shiftKey);
      }}
      onDoubleClick={onEdit}
      className={`flex cursor-cell items-center gap-1 overflow-hidden px-2 ${field.key === "name" ? `sticky left-0 ${ground} font-medium` : ""} ${field.entry.kind === "number" ? "justify-end tabular-nums" : ""} ${tone} ${isMarked && !isActive ? "bg-select" : ""} ${isActive ? "outline-2 -outline-offset-2 outline-(--act)" : ""}`}
    >
      {field.key === "address" ? <span className="truncate font-mono text-xs">{text}</span> : isOffered ? text === "" ? <span className="text-faint">{field.fallback}</span> : <Middle text={text} /> : "–"}
      {isChanged && !problem ? <span title="Changed, and not active yet" className="ml-auto size-1.5 shrink-0 rounded-full bg-(--act)" /> : null}
      {said ? <span className="sr-only">{said}</span> : null}
    </div>
  );
}

interface CellEditorProps {
  field: FormField;
  rates: string[];
  start: string;
  onCommit: (text: string, by: "Enter" | "Tab" | "leaving") => void;
  onLeave: () => void;
}

function CellEditor({ field, rates, start, onCommit, onLeave }: CellEditorProps) {
  const [text, setText] = useState(start);
  const isOver = useRef(false);
  const { entry } = field;
  const words = entry.kind === "choice" ? entry.options.map((option) => option.word) : entry.kind === "reference" ? rates : entry.kind === "switch" ? ["true", "false"] : [];
  const end = (by: "Enter" | "Tab" | "leaving") => {
    if (isOver.current) return;
    isOver.current = true;
    onCommit(text, by);
  };
  return (
    <>
      <input
        // The cell was asked for by the person who types.
        // eslint-disable-next-line jsx-a11y/no-autofocus
        autoFocus
        aria-label={field.label}
        list={words.length > 0 ? `words-${field.key}` : undefined}
        value={text}
        onFocus={(event) => event.target.setSelectionRange(start.length, start.length)}
        onChange={(event) => setText(event.target.value)}
        onBlur={() => end("leaving")}
        onKeyDown={(event) => {
          event.stopPropagation();
          if (event.key === "Enter" || event.key === "Tab") {
            event.preventDefault();
            end(event.key);
          } else if (event.key === "Escape") {
            isOver.current = true;
            onLeave();
          }
        }}
        className="absolute inset-0 z-10 w-full min-w-24 border-2 border-(--act) bg-raised px-1.5"
      />
      {words.length > 0 ? (
        <datalist id={`words-${field.key}`}>
          {words.map((word) => (
            <option key={word} value={word} />
          ))}
        </datalist>
      ) : null}
    </>
  );
}

/** What the point says now, as far as it runs; the way to all that is known of it. */
function LiveCell({ reading, name, onOpen }: { reading: ReadingView | undefined; name: string; onOpen: () => void }) {
  return (
    <div role="gridcell" className="flex items-center justify-end gap-2 overflow-hidden px-2 tabular-nums">
      {reading === undefined ? (
        <span className="text-faint">not active</span>
      ) : reading.quality === "good" ? (
        <span className="truncate">{value(reading.value)}</span>
      ) : (
        <span className="min-w-0 truncate" title={reading.reason ?? ""}>
          <Badge tone={reading.quality === "bad" ? "alarm" : "warn"}>{reading.quality}</Badge>
        </span>
      )}
      <button type="button" tabIndex={-1} aria-label={`Open ${name}`} onClick={onOpen} className="rounded px-1 text-soft hover:bg-select hover:text-ink max-md:size-11">
        …
      </button>
    </div>
  );
}

function ColumnChoice({ fields, keys, onChoose }: { fields: FormField[]; keys: string[]; onChoose: (keys: string[]) => void }) {
  return (
    <details className="relative">
      <summary className="cursor-pointer rounded-md border border-line-strong px-3 py-1.5 text-ink">Columns</summary>
      <ul className="absolute z-20 mt-1 grid max-h-80 w-56 gap-1 overflow-auto rounded-md border border-line-strong bg-raised p-3">
        {fields.map((field) => (
          <li key={field.key}>
            <label className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={keys.includes(field.key)}
                disabled={field.key === "name"}
                onChange={() => onChoose(fields.map((known) => known.key).filter((key) => (key === field.key ? !keys.includes(key) : keys.includes(key))))}
                className="size-4 accent-(--act)"
              />
              {field.label}
            </label>
          </li>
        ))}
      </ul>
    </details>
  );
}

/** The columns that somebody wants to see, kept in this browser. */
function useColumns(fields: FormField[]) {
  const [chosen, setChosen] = useState<string[]>(() => {
    try {
      const parsed: unknown = JSON.parse(localStorage.getItem("columns") ?? "null");
      return Array.isArray(parsed) ? parsed.filter((key) => typeof key === "string") : FIRST;
    } catch {
      return FIRST;
    }
  });
  const choose = (keys: string[]) => {
    localStorage.setItem("columns", JSON.stringify(keys));
    setChosen(keys);
  };
  const keys = fields.map((field) => field.key).filter((key) => key === "name" || chosen.includes(key));
  return { keys, choose };
}

/** Saves what changes at once, one request a change however many points it is of, and takes it back. */
function useGridEdits(gateway: string, list: string, all: ObjectView[]) {
  const queries = useQueryClient();
  const [done, setDone] = useState<EditRequest[][]>([]);
  const [undone, setUndone] = useState<EditRequest[][]>([]);
  const [saved, setSaved] = useState(0);
  const points = draftPointsQuery(gateway, list);
  const mutation = useMutation({
    mutationFn: (edits: EditRequest[]) => dataOf(api.POST("/api/v1/gateways/{gateway}/draft/edits", { params: { path: { gateway } }, body: { edits } })),
    onSuccess: (told, edits) => {
      setSaved(edits.length);
      const after = new Map(told.objects.filter((object) => object.class === "point" && object.list === list).map((object) => [object.name, object]));
      const gone = new Set(edits.filter((edit) => edit.content === null).map((edit) => edit.object.name));
      const named = new Map(edits.map((edit) => [edit.object.name, shown((edit.content as Content | null)?.name) || edit.object.name]));
      queries.setQueryData(points.queryKey, (before) => {
        if (!before) return before;
        const kept = before.filter((row) => !gone.has(row.name)).map((row) => after.get(named.get(row.name) ?? row.name) ?? row);
        const known = new Set(kept.map((row) => row.name));
        return [...kept, ...[...after.values()].filter((row) => !known.has(row.name))];
      });
    },
    onError: () => queries.invalidateQueries({ queryKey: points.queryKey }),
    onSettled: () =>
      Promise.all([
        // The points themselves are known.
        queries.invalidateQueries({ queryKey: gatewayKey(gateway), predicate: (query) => query.queryKey[2] !== "points" }),
        queries.invalidateQueries({ queryKey: gatewaysQuery.queryKey }),
      ]),
  });
  const change = (edits: EditRequest[]) => {
    if (edits.length === 0) return;
    mutation.mutate(edits, {
      onSuccess: () => {
        setDone((before) => [...before.slice(-99), edits]);
        setUndone([]);
      },
    });
  };
  const back = (from: EditRequest[][], to: (change: (before: EditRequest[][]) => EditRequest[][]) => void, drop: (change: (before: EditRequest[][]) => EditRequest[][]) => void) => {
    const last = from.at(-1);
    if (!last || mutation.isPending) return;
    const edits = takenBack(last, all);
    drop((before) => before.slice(0, -1));
    if (edits.length > 0) mutation.mutate(edits, { onSuccess: () => to((before) => [...before, edits]) });
  };
  return {
    change,
    undo: () => back(done, setUndone, setDone),
    redo: () => back(undone, setDone, setUndone),
    canUndo: done.length > 0,
    canRedo: undone.length > 0,
    isPending: mutation.isPending,
    error: mutation.error,
    saved,
  };
}
