import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { DraftView, Forms, ObjectView } from "../../api/client";
import { draftPointsQuery } from "../../api/queries";
import { useReturnFocus } from "../../components/focus";
import { Button, CONTROL } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { contentOf, kindOf, objectsOf, useEdits } from "../description/edits";
import { fieldsOf } from "../description/schema";
import { copies, proposed, tellingOf } from "./copies";

interface CopiesProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  device: ObjectView;
  list: string;
  onDone: (added: number) => void;
}

/** More devices of the same make: what differs is asked in one row each. */
export function Copies({ gateway, draft, forms, device, list, onDone }: CopiesProps) {
  const others = objectsOf(draft, "device");
  const content = contentOf(device);
  const telling = tellingOf(fieldsOf(kindOf(forms, draft, content)?.device), content);
  const [many, setMany] = useState("1");
  const [isShared, setShared] = useState(true);
  const wanted = Math.min(Math.max(Number(many) || 0, 0), 200);
  const [typed, setTyped] = useState<Record<string, string>[]>([]);
  const rows = proposed(device, others, telling, wanted).map((row, at) => ({ ...row, ...typed[at] }));
  const points = useQuery({ ...draftPointsQuery(gateway, list), enabled: !isShared });
  const edits = useEdits(gateway);
  useReturnFocus();
  const first = useRef<HTMLInputElement>(null);
  useEffect(() => first.current?.select(), []);
  const put = (at: number, key: string, text: string) => setTyped(Array.from({ length: Math.max(typed.length, at + 1) }, (_, place) => (place === at ? { ...typed[place], [key]: text } : (typed[place] ?? {}))));
  const isReady = rows.length > 0 && rows.every((row) => (row as Record<string, string>).name !== "") && (isShared || points.data !== undefined);
  return (
    <form
      aria-label={`Copies of ${device.name}`}
      className="mb-4 grid gap-3 rounded-md border border-line-strong bg-raised p-4"
      onSubmit={(event) => {
        event.preventDefault();
        edits.mutate(copies(device, list, points.data ?? [], rows, telling, isShared), { onSuccess: () => onDone(rows.length) });
      }}
    >
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <label className="flex items-center gap-2 font-medium">
          How many
          <input ref={first} inputMode="numeric" value={many} onChange={(event) => setMany(event.target.value)} className={`${CONTROL} max-w-20`} />
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={isShared} onChange={(event) => setShared(event.target.checked)} className="size-4 accent-(--act)" />
          One list of points for all: {list}
        </label>
      </div>
      <div className="overflow-x-auto">
        <table className="text-left text-sm">
          <thead>
            <tr className="text-xs text-soft">
              {["Name", ...telling.map((field) => field.label), "Title"].map((label) => (
                <th key={label} className="pr-2 pb-1 font-normal">
                  {label}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row: Record<string, string>, at) => (
              // Its place is all that a copy has for certain.
              // eslint-disable-next-line react/no-array-index-key
              <tr key={at}>
                {["name", ...telling.map((field) => field.key), "title"].map((key) => (
                  <td key={key} className="pr-2 pb-1">
                    <input
                      aria-label={`${key} of copy ${at + 1}`}
                      value={row[key] ?? ""}
                      placeholder={telling.find((field) => field.key === key)?.fallback ?? ""}
                      onChange={(event) => put(at, key, event.target.value)}
                      className={`${CONTROL} h-9 ${key === "name" || key === "title" ? "w-44" : "w-24"}`}
                    />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
      <div className="flex flex-wrap gap-2">
        <Button type="submit" disabled={!isReady || edits.isPending}>
          {edits.isPending ? "Saving …" : `Add ${count(rows.length, "device")} to the draft`}
        </Button>
        <Button quiet onClick={() => onDone(0)}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
