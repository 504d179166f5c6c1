import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import type { Content, DraftView, Forms, ObjectView, Problem } from "../../api/client";
import { checkQuery, draftPointsQuery } from "../../api/queries";
import { intoGrid } from "../../components/focus";
import { Button } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { contentOf, namesOf, objectsOf, pointSchema } from "../description/edits";
import { ObjectEditor } from "../description/ObjectEditor";
import { shown } from "../description/schema";
import { useMay } from "../session/may";
import { ImportList } from "../points/ImportList";
import { BulkChange } from "./BulkChange";
import { PointsGrid } from "./PointsGrid";
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

/** The points of a device in the draft: edited one by one, or pasted as a list. */
export function PointsEditor({ gateway, draft, forms, device, list, opened, onOpen }: PointsEditorProps) {
  const points = useQuery(draftPointsQuery(gateway, list));
  const check = useQuery(checkQuery(gateway));
  const may = useMay("engineer");
  /** The list that is taken over, as far as it is there already. */
  const [pasting, setPasting] = useState<string | null>(null);
  const [text, setText] = useState("");
  const [picked, pick] = usePicked(`${gateway}/${list}`);
  const shared = draft.lists.find((known) => known.path === list)?.devices.filter((name) => name !== device.name) ?? [];
  const link = objectsOf(draft, "link").find((object) => object.name === contentOf(device).link);
  const faulty = useMemo(() => {
    const of: Map<string, Problem[]> = new Map();
    for (const problem of check.data?.problems ?? []) {
      if (problem.target?.class !== "point" || problem.target.list !== list) continue;
      const known = of.get(problem.target.name);
      if (known) known.push(problem);
      else of.set(problem.target.name, [problem]);
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
          onKeyDown={intoGrid}
          className="h-9 max-md:h-11 w-44 rounded-md border border-line-strong bg-raised px-3"
        />
        <p className="text-sm text-soft">{count(points.data.length, "point")}</p>
        {may ? (
          <div className="ml-auto flex gap-2">
            <Button quiet onClick={() => setPasting(pasting === null ? "" : null)}>
              Take over a list
            </Button>
            <Button quiet onClick={() => onOpen("")}>
              Add a point
            </Button>
          </div>
        ) : null}
      </div>
      {pasting !== null ? (
        <ImportList key={pasting} {...{ gateway, draft, list }} start={pasting} schema={pointSchema(forms, draft, list)} onDone={() => setPasting(null)} />
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
            <BulkChange {...{ gateway, list }} schema={pointSchema(forms, draft, list)} points={chosen} names={points.data.map((point) => point.name)} rates={namesOf(draft).rate} onDone={() => pick(new Set())} />
          ) : null}
          <PointsGrid
            {...{ gateway, list, rows, opened, onOpen, picked }}
            device={device.name}
            all={points.data}
            schema={pointSchema(forms, draft, list)}
            rates={namesOf(draft).rate}
            problems={faulty}
            onPick={may ? pick : undefined}
            onList={(pasted) => setPasting(pasted)}
          />
        </>
      )}
    </div>
  );
}

/** The points that are chosen: until they are dropped, whatever is looked at meanwhile. */
function usePicked(key: string) {
  const place = `picked:${key}`;
  const [picked, setPicked] = useState<ReadonlySet<string>>(() => {
    try {
      const parsed: unknown = JSON.parse(sessionStorage.getItem(place) ?? "[]");
      return new Set(Array.isArray(parsed) ? parsed.filter((name) => typeof name === "string") : []);
    } catch {
      return new Set();
    }
  });
  const pick = (names: ReadonlySet<string>) => {
    sessionStorage.setItem(place, JSON.stringify([...names]));
    setPicked(names);
  };
  return [picked, pick] as const;
}
