import { useState } from "react";
import type { Content, ObjectView } from "../../api/client";
import { Button, CONTROL } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { contentOf, useEdits } from "../description/edits";
import { fieldsOf, shown, valueOf } from "../description/schema";
import { fillDown, setAll } from "./bulk";

interface BulkChangeProps {
  gateway: string;
  list: string;
  /** The schema of the points. */
  schema: unknown;
  points: ObjectView[];
  rates: string[];
  onDone: () => void;
}

/** What tells points apart is not set for several at once. */
const OWN = new Set(["name", "address", "title"]);

/** Changes one thing of all points that are chosen: all of them, or none. */
export function BulkChange({ gateway, list, schema, points, rates, onDone }: BulkChangeProps) {
  const fields = fieldsOf(schema).filter((field) => !OWN.has(field.key));
  const [key, setKey] = useState("rate");
  const [typed, setTyped] = useState("");
  const edits = useEdits(gateway);
  const field = fields.find((known) => known.key === key);
  if (!field) return null;
  const first: Content = contentOf(points[0]);
  const options =
    field.entry.kind === "reference" ? rates : field.entry.kind === "choice" ? field.entry.options.map((option) => option.word) : field.entry.kind === "switch" ? ["true", "false"] : null;
  const send = (wanted: ReturnType<typeof setAll>) => (wanted.length === 0 ? onDone() : edits.mutate(wanted, { onSuccess: onDone }));
  return (
    <section aria-label="Change the chosen points" className="grid gap-2 rounded-md border border-line-strong bg-raised p-3">
      <div className="flex flex-wrap items-center gap-2">
        <p className="font-semibold">{count(points.length, "point")} chosen</p>
        <select
          aria-label="What to change"
          value={key}
          onChange={(event) => {
            setKey(event.target.value);
            setTyped("");
          }}
          className={`${CONTROL} max-w-40`}
        >
          {fields.map((known) => (
            <option key={known.key} value={known.key}>
              {known.label}
            </option>
          ))}
        </select>
        {options ? (
          <select aria-label={`New ${field.label}`} value={typed} onChange={(event) => setTyped(event.target.value)} className={`${CONTROL} max-w-40`}>
            <option value="">{field.isRequired ? "" : field.fallback || "none"}</option>
            {options.map((word) => (
              <option key={word}>{word}</option>
            ))}
          </select>
        ) : (
          <input aria-label={`New ${field.label}`} value={typed} placeholder={field.fallback || "none"} onChange={(event) => setTyped(event.target.value)} className={`${CONTROL} max-w-40`} />
        )}
        <Button disabled={edits.isPending || (field.isRequired && typed === "")} onClick={() => send(setAll(list, points, key, valueOf(typed, field.entry)))}>
          Set for all
        </Button>
        <Button quiet disabled={edits.isPending || points.length < 2} onClick={() => send(fillDown(list, points, key))}>
          Fill down {shown(first[key]) ? `“${shown(first[key])}”` : ""}
        </Button>
        <Button quiet className="ml-auto" onClick={onDone}>
          Choose none
        </Button>
      </div>
      {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
    </section>
  );
}
