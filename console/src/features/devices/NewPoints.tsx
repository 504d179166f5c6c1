import { useState } from "react";
import type { Content, DraftView } from "../../api/client";
import { Button } from "../../components/Form";
import { namesOf } from "../description/edits";
import { SchemaForm } from "../description/SchemaForm";
import { shown } from "../description/schema";
import { ImportList } from "../points/ImportList";
import { TrialPanel } from "./TrialPanel";
import { UseModel } from "./UseModel";

interface NewPointsProps {
  gateway: string;
  draft: DraftView;
  /** The schema of the points. */
  schema: unknown;
  link: Content;
  device: Content;
  /** What the device was reached with: the first point starts from it. */
  first: Content;
  points: Content[];
  onChange: (points: Content[]) => void;
  /** The device's points are those of a list that is there. */
  onList: (path: string | null) => void;
}

/** The points of a device that is not saved yet: by hand, each of them tried, or pasted as a list. */
export function NewPoints({ gateway, draft, schema, link, device, first, points, onChange, onList }: NewPointsProps) {
  const rate = namesOf(draft).rate[0] ?? "normal";
  const [open, setOpen] = useState<number | null>(points.length === 0 && !draft.lists.some((list) => list.path === shown(device.points)) ? 0 : null);
  const [pasting, setPasting] = useState<string | null>(null);
  const usesList = draft.lists.some((list) => list.path === shown(device.points));
  const at = (position: number) => points[position] ?? { ...(points.length === 0 ? first : {}), rate };
  const put = (position: number, content: Content) => onChange([...points.slice(0, position), content, ...points.slice(position + 1)]);
  const names = { ...namesOf(draft), rate: namesOf(draft).rate.length > 0 ? namesOf(draft).rate : [rate] };
  return (
    <div className="grid gap-3">
      <UseModel {...{ gateway, draft, link, device, onList }} onText={setPasting} />
      {usesList ? <p className="text-sm text-soft">Points that are added here go into that list, for all its devices.</p> : null}
      <ul className="grid divide-y divide-line">
        {[...points, ...(open === points.length ? [at(points.length)] : [])].map((point, position) => (
          // Their place is all that tells points apart while they are being named.
          // eslint-disable-next-line react/no-array-index-key
          <li key={position} className="py-2">
            <div className="flex flex-wrap items-center gap-3">
              <button
                type="button"
                aria-expanded={open === position}
                onClick={() => setOpen(open === position ? null : position)}
                className="flex flex-1 flex-wrap gap-x-4 text-left hover:text-act"
              >
                <span className="min-w-28 font-medium">{shown(point.name) || "A point without a name"}</span>
                <span className="font-mono text-xs leading-5 text-soft">{shown(point.address)}</span>
                <span className="text-soft">
                  {shown(point.type)} {shown(point.unit)}
                </span>
              </button>
              {position < points.length ? (
                <Button quiet aria-label={`Remove ${shown(point.name)}`} onClick={() => onChange(points.filter((_, other) => other !== position))}>
                  Remove
                </Button>
              ) : null}
            </div>
            {open === position ? (
              <div className="mt-3 grid gap-4 rounded-md border border-line-strong bg-raised p-4">
                <SchemaForm schema={schema} content={point} onChange={(content) => put(position, content)} problems={[]} names={names} />
                <TrialPanel gateway={gateway} link={link} device={device} point={point} />
              </div>
            ) : null}
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        <Button quiet onClick={() => setOpen(points.length)}>
          Add a point
        </Button>
        <Button quiet onClick={() => {
            setPasting(pasting === null ? "" : null);
            // What nobody has typed into makes room.
            if (open === points.length) setOpen(null);
          }}>
          Paste a list
        </Button>
      </div>
      {pasting !== null ? (
        <ImportList
          key={pasting}
          start={pasting}
          {...{ gateway, draft, schema }}
          list={shown(device.points) || `points/${shown(device.name)}.csv`}
          of={{
            device,
            link,
            onRows: (rows) => {
              const names = new Set(rows.map((row) => row.name));
              onChange([...points.filter((point) => !names.has(point.name)), ...rows]);
              setOpen(null);
            },
          }}
          onDone={() => setPasting(null)}
        />
      ) : null}
    </div>
  );
}
