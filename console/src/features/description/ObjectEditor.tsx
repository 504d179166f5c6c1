import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import { ApiFailure, type Conflict, type Content, type DraftView, type Forms, type ObjectClass, type ObjectView } from "../../api/client";
import { checkQuery } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Confirm } from "../../components/Confirm";
import { Button } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { useMay } from "../session/may";
import { contentOf, namesOf, schemaOf, useEdits } from "./edits";
import { useKept } from "./kept";
import { useAnnounce, useOthers } from "./presence";
import { STORED, SchemaForm } from "./SchemaForm";
import { fieldsOf, shown, withKey } from "./schema";

interface ObjectEditorProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  of: ObjectClass;
  /** The point list of a point. */
  list?: string;
  /** The object; undefined for a new one. */
  object: ObjectView | undefined;
  /** What a new one starts with. */
  start?: Content;
  onSaved?: (name: string) => void;
  onRemoved?: () => void;
  /** More to do with what stands in the form, such as to try it. */
  extra?: (content: Content, change: (content: Content) => void) => ReactNode;
}

/** The form of one object, from its schema, with the problems of the draft at its fields. */
export function ObjectEditor({ gateway, draft, forms, of, list = "", object, start = {}, onSaved, onRemoved, extra }: ObjectEditorProps) {
  const saved = { version: object?.version ?? null, content: object ? contentOf(object) : start };
  const key = [gateway, of, list, object?.name ?? "new"].join("/");
  const kept = useKept(key, saved);
  const edits = useEdits(gateway);
  const may = useMay("engineer");
  const check = useQuery(checkQuery(gateway));
  const [conflict, setConflict] = useState<Conflict | null>(null);
  const name = object?.name ?? shown(kept.content.name);
  useAnnounce(object ? `${of} ${object.name}` : `a new ${of}`);
  const here = useOthers(gateway).filter((other) => object && other.place === `${of} ${object.name}`);
  const problems = (check.data?.problems ?? []).filter(
    (problem) => problem.target?.class === of && problem.target.name === object?.name && (problem.target.list ?? "") === list,
  );
  const general = problems.filter((problem) => problem.field === "");
  const refused = edits.error instanceof ApiFailure ? edits.error.problems : [];

  const save = (version: string | null, content = kept.content, began = version === null ? undefined : kept.began) =>
    edits.mutate([{ object: { class: of, list, name }, version, content, began }], {
      onSuccess: () => {
        kept.forget();
        setConflict(null);
        onSaved?.(shown(content.name));
      },
      onError: (error) => setConflict(error instanceof ApiFailure ? error.conflict : null),
    });
  const remove = () =>
    edits.mutate([{ object: { class: of, list, name }, version: object?.version ?? null, content: null }], {
      onSuccess: () => {
        kept.forget();
        onRemoved?.();
      },
    });

  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        save(kept.version);
      }}
    >
      {here.length > 0 ? <Notice tone="warn" title={`${here.map((other) => other.person).join(", ")} has this open too`} /> : null}
      {general.map((problem) => (
        <Notice key={problem.message} tone={problem.severity === "mistake" ? "alarm" : "warn"} title={problem.message}>
          Expected {problem.expected}.
        </Notice>
      ))}
      <fieldset disabled={!may} className="contents">
        <SchemaForm
          schema={schemaOf(forms, draft, of, kept.content, list)}
          content={kept.content}
          onChange={kept.change}
          problems={kept.isUnsaved ? refused : problems}
          names={namesOf(draft)}
        />
      </fieldset>
      {conflict ? (
        <ConflictPanel
          conflict={conflict}
          mine={kept.content}
          schema={schemaOf(forms, draft, of, kept.content, list)}
          began={kept.began}
          onMine={(chosen, since) => (since ? save(kept.version, chosen, since) : save(conflict.version === "" ? null : conflict.version, chosen))}
          onTheirs={() => {
            kept.forget();
            setConflict(null);
          }}
        />
      ) : edits.isError && refused.length === 0 ? (
        <Notice tone="alarm" title={edits.error.message} />
      ) : null}
      {extra?.(kept.content, kept.change)}
      {may ? (
        <div className="flex flex-wrap items-center gap-2">
          <Button type="submit" disabled={edits.isPending || (!kept.isUnsaved && object !== undefined)}>
            {edits.isPending ? "Saving …" : object ? "Save to the draft" : `Add the ${of}`}
          </Button>
          {kept.isUnsaved ? (
            <>
              <Button quiet onClick={kept.forget}>
                Undo
              </Button>
              <Badge tone="warn">Not saved</Badge>
            </>
          ) : edits.isSuccess ? (
            <Link to={`/changes?gateway=${encodeURIComponent(gateway)}`} className="inline-flex items-center text-act underline max-md:min-h-11">
              Saved: look and activate
            </Link>
          ) : null}
          {object && of !== "gateway" ? (
            <Confirm title={`Remove ${of} ${object.name}?`} action="Remove" onConfirm={remove} trigger={<Button quiet className="ml-auto">Remove</Button>}>
              It goes from the draft. What runs stays as it is until the draft is activated.
            </Confirm>
          ) : null}
        </div>
      ) : null}
    </form>
  );
}

interface ConflictPanelProps {
  conflict: Conflict;
  mine: Content;
  began: Content | undefined;
  schema: unknown;
  /** What is to be saved, with what it began with then; without that, in the place of all of theirs. */
  onMine: (content: Content, began: Content | undefined) => void;
  onTheirs: () => void;
}

/** Both have changed the same: both values, side by side, and the choice. All else of both stands. */
function ConflictPanel({ conflict, mine, began, schema, onMine, onTheirs }: ConflictPanelProps) {
  const theirs = (conflict.content ?? {}) as Content;
  const [isTheirs, setTheirs] = useState<ReadonlySet<string>>(new Set());
  const known = fieldsOf(schema);
  const keys = [...new Set([...known.map((field) => field.key), ...Object.keys(mine), ...Object.keys(theirs)])];
  const clashes = conflict.clashes ?? [];
  const asked = clashes.length > 0 ? clashes : keys.filter((key) => shown(mine[key]) !== shown(theirs[key]) && mine[key] !== STORED);
  const isGone = conflict.version === "";
  const choose = (key: string, theirs: boolean) => {
    const after = new Set(isTheirs);
    if (theirs) after.add(key);
    else after.delete(key);
    setTheirs(after);
  };
  const settle = () => {
    const chosen = asked.reduce((content, key) => (isTheirs.has(key) ? withKey(content, key, theirs[key]) : content), mine);
    // What is chosen now counts as looked at.
    const since = began && asked.reduce((content, key) => withKey(content, key, theirs[key]), began);
    onMine(chosen, clashes.length > 0 ? since : undefined);
  };
  const side = (key: string, of: Content, theirs: boolean) => (
    <label className="flex items-center gap-2">
      <input
        type="radio"
        name={`keeps ${key}`}
        aria-label={`${theirs ? "Theirs" : "Yours"} of ${key}`}
        checked={isTheirs.has(key) === theirs}
        onChange={() => choose(key, theirs)}
        className="size-4 accent-(--act)"
      />
      <span className="font-mono text-xs">{shown(of[key]) || "–"}</span>
    </label>
  );
  return (
    <Notice tone="warn" title={isGone ? "Somebody has removed this meanwhile" : `${conflict.changed_by || "Somebody else"} has changed this meanwhile`}>
      {isGone ? null : (
        <table className="my-2 w-full text-left text-ink">
          <thead>
            <tr className="text-xs text-soft">
              <th className="pr-3 font-normal">Field</th>
              <th className="pr-3 font-normal">Yours</th>
              <th className="font-normal">Theirs</th>
            </tr>
          </thead>
          <tbody>
            {asked.map((key) => (
              <tr key={key}>
                <th className="pr-3 font-normal">{known.find((field) => field.key === key)?.label ?? key}</th>
                <td className="pr-3">{side(key, mine, false)}</td>
                <td>{side(key, theirs, true)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="mt-2 flex gap-2">
        <Button quiet onClick={settle}>
          {isGone ? "Add mine again" : "Save what is chosen"}
        </Button>
        <Button quiet onClick={onTheirs}>
          {isGone ? "Leave it removed" : "Take all of theirs"}
        </Button>
      </div>
    </Notice>
  );
}
