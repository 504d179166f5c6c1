import { useState } from "react";
import type { EditRequest, ObjectView } from "../../api/client";
import { Confirm } from "../../components/Confirm";
import { Button, CONTROL } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { contentOf, useEdits } from "../description/edits";
import { type FormField, fieldsOf, takes } from "../description/schema";
import { duplicates, setAll } from "./bulk";

interface BulkChangeProps {
  gateway: string;
  list: string;
  /** The schema of the points. */
  schema: unknown;
  points: ObjectView[];
  /** The names that are taken in the list. */
  names: string[];
  rates: string[];
  onDone: () => void;
}

/** What tells points apart is not set for several at once. */
const OWN = new Set(["name", "address", "title"]);

interface Setting {
  key: string;
  typed: string;
}

/** Changes some things of all points that are chosen: all of them, or none. The choice lasts until it is dropped. */
export function BulkChange({ gateway, list, schema, points, names, rates, onDone }: BulkChangeProps) {
  const fields = fieldsOf(schema).filter((field) => !OWN.has(field.key) && points.some((point) => takes(field, contentOf(point))));
  const [settings, setSettings] = useState<Setting[]>([{ key: "rate", typed: "" }]);
  const [changed, setChanged] = useState<number | null>(null);
  const edits = useEdits(gateway);
  const fieldOf = ({ key }: Setting) => fields.find((field) => field.key === key);
  const put = (at: number, setting: Setting) => {
    setChanged(null);
    setSettings(settings.map((known, place) => (place === at ? setting : known)));
  };
  const free = fields.filter((field) => !settings.some((setting) => setting.key === field.key));
  const isOpen = settings.some((setting) => setting.typed === "" && fieldOf(setting)?.isRequired !== false);
  const send = (wanted: EditRequest[], onSuccess?: () => void) => {
    if (wanted.length === 0) return setChanged(0);
    edits.mutate(wanted, {
      onSuccess: () => {
        setChanged(wanted.length);
        onSuccess?.();
      },
    });
  };
  const removals = points.map((point): EditRequest => ({ object: { class: "point", list, name: point.name }, version: point.version, content: null }));
  return (
    <section aria-label="Change the chosen points" className="grid gap-2 rounded-md border border-line-strong bg-raised p-3">
      <p className="font-semibold">{count(points.length, "point")} chosen</p>
      {settings.map((setting, at) => (
        <SettingRow
          key={setting.key}
          field={fieldOf(setting)}
          fields={[...fields.filter((field) => field.key === setting.key), ...free]}
          setting={setting}
          rates={rates}
          onChange={(to) => put(at, to)}
          onRemove={settings.length > 1 ? () => setSettings(settings.filter((_, place) => place !== at)) : undefined}
        />
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <Button disabled={edits.isPending || isOpen} onClick={() => send(setAll(list, points, settings, fields))}>
          Set for all
        </Button>
        <Button quiet disabled={free.length === 0} onClick={() => setSettings([...settings, { key: free[0]?.key ?? "", typed: "" }])}>
          And another
        </Button>
        <Button quiet disabled={edits.isPending} onClick={() => send(duplicates(list, points, names))}>
          Duplicate
        </Button>
        <Confirm
          title={`Remove ${count(points.length, "point")}?`}
          action="Remove"
          onConfirm={() => send(removals, onDone)}
          trigger={
            <Button quiet disabled={edits.isPending}>
              Remove
            </Button>
          }
        >
          They go from the draft. What runs stays as it is until the draft is activated.
        </Confirm>
        <p role="status" className="text-sm text-soft">
          {edits.isPending ? "Saving …" : changed === null ? "" : changed === 0 ? "All of them have it already" : `${count(changed, "point")} changed`}
        </p>
        <Button quiet className="ml-auto" onClick={onDone}>
          Choose none
        </Button>
      </div>
      {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
    </section>
  );
}

interface SettingRowProps {
  field: FormField | undefined;
  fields: FormField[];
  setting: Setting;
  rates: string[];
  onChange: (setting: Setting) => void;
  onRemove: (() => void) | undefined;
}

function SettingRow({ field, fields, setting, rates, onChange, onRemove }: SettingRowProps) {
  if (!field) return null;
  const { entry } = field;
  const options = entry.kind === "reference" ? rates : entry.kind === "choice" ? entry.options.map((option) => option.word) : entry.kind === "switch" ? ["true", "false"] : null;
  const type = (typed: string) => onChange({ ...setting, typed });
  return (
    <div className="flex flex-wrap items-center gap-2">
      <select aria-label="What to change" value={setting.key} onChange={(event) => onChange({ key: event.target.value, typed: "" })} className={`${CONTROL} max-w-40`}>
        {fields.map((known) => (
          <option key={known.key} value={known.key}>
            {known.label}
          </option>
        ))}
      </select>
      {options ? (
        <select aria-label={`New ${field.label}`} value={setting.typed} onChange={(event) => type(event.target.value)} className={`${CONTROL} max-w-40`}>
          <option value="">{field.isRequired ? "" : field.fallback || "none"}</option>
          {options.map((word) => (
            <option key={word}>{word}</option>
          ))}
        </select>
      ) : (
        <input aria-label={`New ${field.label}`} value={setting.typed} placeholder={field.fallback || "none"} onChange={(event) => type(event.target.value)} className={`${CONTROL} max-w-40`} />
      )}
      {onRemove ? (
        <Button quiet aria-label={`Leave ${field.label} alone`} onClick={onRemove}>
          ×
        </Button>
      ) : null}
    </div>
  );
}
