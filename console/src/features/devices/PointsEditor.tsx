import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import type { Content, DraftView, Forms, ObjectView, Problem } from "../../api/client";
import { checkQuery, draftPointsQuery } from "../../api/queries";
import { Address } from "../../components/Address";
import { Badge } from "../../components/Badge";
import { Button } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { contentOf, namesOf, objectsOf, pointSchema } from "../description/edits";
import { ObjectEditor } from "../description/ObjectEditor";
import { shown } from "../description/schema";
import { useMay } from "../session/may";
import { ImportList } from "../points/ImportList";
import { range } from "./bulk";
import { BulkChange } from "./BulkChange";
import { TrialPanel } from "./TrialPanel";

interface PointsEditorProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  device: ObjectView;
  list: string;
  opened: string | null;
  onOpen: (name: string | null) => void;
}

const ROW = 36;

/** The points of a device in the draft: edited one by one, or pasted as a list. */
export function PointsEditor({ gateway, draft, forms, device, list, opened, onOpen }: PointsEditorProps) {
  const points = useQuery(draftPointsQuery(gateway, list));
  const check = useQuery(checkQuery(gateway));
  const may = useMay("engineer");
  const [isPasting, setPasting] = useState(false);
  const [text, setText] = useState("");
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const shared = draft.lists.find((known) => known.path === list)?.devices.filter((name) => name !== device.name) ?? [];
  const link = objectsOf(draft, "link").find((object) => object.name === contentOf(device).link);
  const faulty = useMemo(() => {
    const of: Map<string, Problem> = new Map();
    for (const problem of check.data?.problems ?? []) {
      if (problem.target?.class === "point" && problem.target.list === list) of.set(problem.target.name, problem);
    }
    return of;
  }, [check.data, list]);
  const rows = useMemo(() => {
    const wanted = text.toLowerCase();
    return (points.data ?? []).filter((point) => {
      const { address, title } = contentOf(point);
      return [point.name, shown(address), shown(title)].some((place) => place.toLowerCase().includes(wanted));
    });
  }, [points.data, text]);
  if (points.isPending) return <Loading what="points" />;
  if (points.isError && !points.data) return <Notice tone="alarm" title={points.error.message} />;
  const open = points.data.find((point) => point.name === opened);
  const chosen = points.data.filter((point) => picked.has(point.name));
  const extra = (content: Content) =>
    link ? <TrialPanel gateway={gateway} link={contentOf(link)} device={contentOf(device)} point={content} /> : null;
  return (
    <div className="grid gap-3">
      {shared.length > 0 ? (
        <Notice title={`${list} is the list of ${shared.join(", ")} too`}>What is changed here changes there.</Notice>
      ) : null}
      <div className="flex flex-wrap items-center gap-2">
        <input
          type="search"
          aria-label="Filter the list"
          placeholder="Filter  ( / )"
          value={text}
          onChange={(event) => setText(event.target.value)}
          className="h-9 w-44 rounded-md border border-line-strong bg-raised px-3"
        />
        <p className="text-sm text-soft">{count(points.data.length, "point")}</p>
        {may ? (
          <div className="ml-auto flex gap-2">
            <Button quiet onClick={() => setPasting(!isPasting)}>
              Take over a list
            </Button>
            <Button quiet onClick={() => onOpen("")}>
              Add a point
            </Button>
          </div>
        ) : null}
      </div>
      {isPasting ? (
        <ImportList {...{ gateway, draft, list }} schema={pointSchema(forms, draft, list)} onDone={() => setPasting(false)} />
      ) : null}
      {opened === "" || open ? (
        <div className="rounded-md border border-line-strong bg-raised p-4">
          <header className="mb-3 flex items-center gap-2">
            <h3 className="font-semibold">{open ? `Point ${open.name}` : "A new point"}</h3>
            <Button quiet className="ml-auto" onClick={() => onOpen(null)}>
              Close
            </Button>
          </header>
          <ObjectEditor
            key={opened}
            {...{ gateway, draft, forms, list, extra }}
            of="point"
            object={open}
            onSaved={(name) => onOpen(open ? name : "")}
            onRemoved={() => onOpen(null)}
          />
        </div>
      ) : null}
      {points.data.length === 0 ? (
        <Notice title="No points yet">Add them one by one, or take over a list from a spreadsheet.</Notice>
      ) : (
        <>
          {chosen.length > 0 ? (
            <BulkChange {...{ gateway, list }} schema={pointSchema(forms, draft, list)} points={chosen} rates={namesOf(draft).rate} onDone={() => setPicked(new Set())} />
          ) : null}
          <PointRows {...{ rows, faulty, opened, onOpen, picked }} onPick={may ? setPicked : undefined} />
        </>
      )}
    </div>
  );
}

interface PointRowsProps {
  rows: ObjectView[];
  faulty: Map<string, Problem>;
  opened: string | null;
  onOpen: (name: string) => void;
  picked: ReadonlySet<string>;
  /** Nobody may pick without it. */
  onPick: ((names: ReadonlySet<string>) => void) | undefined;
}

function PointRows({ rows, faulty, opened, onOpen, picked, onPick }: PointRowsProps) {
  const last = useRef<string | null>(null);
  const all = rows.length > 0 && rows.every((row) => picked.has(row.name));
  const pick = (name: string, isRange: boolean) => {
    const names = isRange && last.current ? range(rows, last.current, name) : [name];
    const after = new Set(picked);
    const isOn = !picked.has(name);
    for (const one of names) {
      if (isOn) after.add(one);
      else after.delete(one);
    }
    last.current = name;
    onPick?.(after);
  };
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 10,
  });
  return (
    <div ref={scroller} className="max-h-[26rem] overflow-auto rounded-md border border-line text-sm">
      {onPick ? (
        <label className="sticky top-0 z-10 flex h-8 items-center gap-2 border-b border-line-strong bg-ground px-3 text-xs text-soft">
          <input
            type="checkbox"
            aria-label="Choose all that are shown"
            checked={all}
            onChange={() => onPick(all ? new Set() : new Set(rows.map((row) => row.name)))}
            className="size-4 accent-(--act)"
          />
          {picked.size > 0 ? `${picked.size} chosen; shift chooses up to here` : "Choose points to change several at once"}
        </label>
      ) : null}
      <ul aria-label="Points of the list" className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const point = rows[item.index];
          if (!point) return null;
          const content = contentOf(point);
          const problem = faulty.get(point.name);
          return (
            <li key={point.name} className="absolute inset-x-0 flex border-b border-line" style={{ height: ROW, transform: `translateY(${item.start}px)` }}>
              {onPick ? (
                <input
                  type="checkbox"
                  aria-label={`Choose ${point.name}`}
                  checked={picked.has(point.name)}
                  onChange={() => undefined}
                  onClick={(event) => pick(point.name, event.shiftKey)}
                  className="my-auto ml-3 size-4 shrink-0 accent-(--act)"
                />
              ) : null}
              <button
                type="button"
                aria-pressed={point.name === opened}
                onClick={() => onOpen(point.name)}
                className="grid h-full w-full min-w-0 grid-cols-[minmax(5rem,1.4fr)_minmax(4rem,1fr)_auto] items-center gap-x-3 px-3 text-left hover:bg-select aria-pressed:bg-select sm:grid-cols-[minmax(5rem,1.3fr)_minmax(7rem,1fr)_4rem_3.5rem_4rem_4.5rem]"
              >
                <span className="truncate font-medium">{point.name}</span>
                <Address>{shown(content.address)}</Address>
                <span className="truncate text-soft max-sm:hidden">{shown(content.type)}</span>
                <span className="truncate text-soft max-sm:hidden">{shown(content.unit)}</span>
                <span className="truncate text-soft max-sm:hidden">{shown(content.rate)}</span>
                <span className="justify-self-end">
                  {problem ? (
                    <Badge tone={problem.severity === "mistake" ? "alarm" : "warn"}>{problem.severity}</Badge>
                  ) : point.changed_by ? (
                    <Badge tone="warn">changed</Badge>
                  ) : null}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
    </div>
  );
}
