import { useEffect, useRef, useState } from "react";
import { useLocation } from "react-router";
import type { Content, Problem } from "../../api/client";
import { Choice, Field, type Labelled, Lines } from "../../components/Form";
import { type FormField, fieldsOf, shown, takes, valueOf, withKey } from "./schema";

interface SchemaFormProps {
  schema: unknown;
  content: Content;
  onChange: (content: Content) => void;
  problems: Problem[];
  /** Names that fields may refer to. */
  names: { link: string[]; rate: string[] };
  /** Fields that are set elsewhere. */
  without?: string[];
}

/** A form for any object of a description: everything it shows comes from the schema. */
export function SchemaForm({ schema, content, onChange, problems, names, without = [] }: SchemaFormProps) {
  const fields = fieldsOf(schema).filter((field) => !without.includes(field.key) && takes(field, content));
  const advanced = fields.filter((field) => field.isAdvanced);
  const draw = (field: FormField) => (
    <div key={field.key} data-field={field.key} className={field.isWide ? "sm:col-span-2" : ""}>
      <SchemaField
        field={field}
        typed={shown(content[field.key])}
        onType={(typed) => onChange(withKey(content, field.key, valueOf(typed, field.entry)))}
        problem={problems.find((problem) => problem.field === field.key)}
        names={names}
      />
    </div>
  );
  const isFaulty = advanced.some((field) => problems.some((problem) => problem.field === field.key));
  const form = useRef<HTMLDivElement>(null);
  const { hash } = useLocation();
  // A link to a field leads to it, once it is shown.
  useEffect(() => {
    const wanted = fields.findIndex((field) => `#${field.key}` === hash);
    if (wanted >= 0) form.current?.querySelector<HTMLElement>(`[data-field="${fields[wanted]?.key}"] :is(input, select, textarea)`)?.focus();
    // Only a new link moves the focus; typing does not.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [hash, isFaulty]);
  const isSet = advanced.some((field) => field.key in content);
  return (
    <div ref={form} className="grid gap-4">
      <div className="grid items-start gap-4 sm:grid-cols-2 2xl:grid-cols-3">{fields.filter((field) => !field.isAdvanced).map(draw)}</div>
      {advanced.length > 0 ? (
        <details open={isFaulty || isSet || undefined} className="rounded-md border border-line p-3">
          <summary className="cursor-pointer text-soft">Advanced</summary>
          <div className="mt-3 grid items-start gap-4 sm:grid-cols-2 2xl:grid-cols-3">{advanced.map(draw)}</div>
        </details>
      ) : null}
    </div>
  );
}

interface SchemaFieldProps {
  field: FormField;
  typed: string;
  onType: (typed: string) => void;
  problem: Problem | undefined;
  names: { link: string[]; rate: string[] };
}

export const STORED = "(stored)";

function SchemaField({ field, typed, onType, problem, names }: SchemaFieldProps) {
  const { entry } = field;
  const labelled: Labelled = {
    label: field.label,
    isNeeded: field.isRequired,
    help: field.help,
    fault: problem ? `${problem.message}; expected ${problem.expected}` : undefined,
    isWarning: problem?.severity === "warning",
  };
  switch (entry.kind) {
    case "choice":
    case "reference":
    case "switch": {
      const words =
        entry.kind === "choice"
          ? entry.options.map((option) => option.word)
          : entry.kind === "reference"
            ? names[entry.to]
            : ["true", "false"];
      return (
        <Choice {...labelled} value={typed} onChange={(event) => onType(event.target.value)}>
          <option value="">{field.fallback ? `${field.fallback} (default)` : field.isRequired ? "Choose" : "None"}</option>
          {words.map((word) => (
            <option key={word}>{word}</option>
          ))}
          {typed !== "" && !words.includes(typed) ? <option>{typed}</option> : null}
        </Choice>
      );
    }
    case "secret": {
      const isStored = typed === STORED;
      if (entry.hasLines) {
        return <Lines {...labelled} placeholder={isStored ? "Stored; paste to replace it" : ""} text={isStored ? "" : typed} onText={onType} />;
      }
      return (
        <Field
          {...labelled}
          type="password"
          autoComplete="new-password"
          placeholder={isStored ? "Stored; type to replace it" : ""}
          value={isStored ? "" : typed}
          onChange={(event) => onType(event.target.value)}
        />
      );
    }
    case "number":
      return (
        <NumberField
          {...labelled}
          label={entry.unit ? `${labelled.label}, ${entry.unit}` : labelled.label}
          inputMode={entry.isWhole ? "numeric" : "decimal"}
          placeholder={field.fallback}
          typed={typed}
          isSame={(text) => shown(valueOf(text, entry)) === typed}
          onType={onType}
        />
      );
    case "text":
      if (entry.hasLines) return <Lines {...labelled} placeholder={field.fallback} text={typed} onText={onType} />;
      return (
        <Field {...labelled} placeholder={field.fallback} value={typed} onChange={(event) => onType(event.target.value)} />
      );
  }
}

interface NumberFieldProps extends Labelled {
  inputMode: "numeric" | "decimal";
  placeholder: string;
  /** The number, as text. */
  typed: string;
  /** Whether a text stands for the number. */
  isSame: (text: string) => boolean;
  onType: (typed: string) => void;
}

/** Keeps the text as it is typed as long as it stands for the number: `0.` on its way to `0.01` is not made `0`. */
function NumberField({ typed, isSame, onType, ...input }: NumberFieldProps) {
  const [text, setText] = useState(typed);
  return (
    <Field
      {...input}
      value={isSame(text) ? text : typed}
      onChange={(event) => {
        setText(event.target.value);
        onType(event.target.value);
      }}
    />
  );
}
