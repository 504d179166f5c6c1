import { Label } from "radix-ui";
import { type ComponentProps, type ReactNode, useId } from "react";
import { textOf } from "../text/file";

/** How every control of a form looks. */
export const CONTROL =
  "h-10 max-md:h-11 w-full min-w-0 rounded-md border border-line-strong bg-raised px-3 aria-invalid:border-alarm aria-invalid:bg-alarm-ground";

export interface Labelled {
  label: string;
  /** Whether it cannot be left empty. */
  isNeeded?: boolean;
  help?: string | undefined;
  /** What is wrong with it, and what would be right. */
  fault?: string | undefined;
  /** Whether the fault only warns. */
  isWarning?: boolean | undefined;
}

/** A label above a control, and help and fault below; the control gets what ties it to them. */
export function Labelling({ label, isNeeded = false, help, fault, isWarning, children }: Labelled & { children: (ties: Ties) => ReactNode }) {
  const id = useId();
  const described = [help ? `${id}-help` : "", fault ? `${id}-fault` : ""].filter(Boolean).join(" ");
  return (
    <div className="grid content-start gap-1">
      <Label.Root htmlFor={id} className={`font-medium ${isNeeded ? "after:ml-1 after:text-faint after:content-['needed'] after:text-xs after:font-normal" : ""}`}>
        {label}
      </Label.Root>
      {children({ id, "aria-describedby": described || undefined, "aria-invalid": fault && !isWarning ? true : undefined })}
      {fault ? (
        <p id={`${id}-fault`} className={`text-xs ${isWarning ? "text-warn" : "text-alarm"}`}>
          <span aria-hidden="true">{isWarning ? "▲ " : "■ "}</span>
          {fault}
        </p>
      ) : null}
      {help ? (
        <p id={`${id}-help`} className="text-xs text-faint">
          {help}
        </p>
      ) : null}
    </div>
  );
}

interface Ties {
  id: string;
  "aria-describedby": string | undefined;
  "aria-invalid": true | undefined;
}

/** A labelled input. */
export function Field({ label, isNeeded = false, help, fault, isWarning, ...input }: Labelled & ComponentProps<"input">) {
  return (
    <Labelling {...{ label, isNeeded, help, fault, isWarning }}>
      {(ties) => <input {...input} {...ties} className={CONTROL} />}
    </Labelling>
  );
}

/** A labelled text of several lines, typed, pasted or taken from a file. */
export function Lines({ label, isNeeded = false, help, fault, isWarning, placeholder, text, onText }: LinesProps) {
  return (
    <Labelling {...{ label, isNeeded, help, fault, isWarning }}>
      {(ties) => (
        <>
          <textarea
            {...ties}
            rows={3}
            spellCheck={false}
            autoComplete="off"
            placeholder={placeholder}
            value={text}
            onChange={(event) => onText(event.target.value)}
            className={`${CONTROL} h-auto resize-y py-2 font-mono text-xs`}
          />
          <label className="w-fit cursor-pointer text-xs text-soft underline focus-within:outline-2">
            From a file
            <input
              type="file"
              aria-label={`${label} from a file`}
              className="sr-only"
              onChange={(event) => {
                const file = event.target.files?.[0];
                // The same file may be chosen again after it was mended.
                event.target.value = "";
                if (file) void textOf(file).then(onText);
              }}
            />
          </label>
        </>
      )}
    </Labelling>
  );
}

interface LinesProps extends Labelled {
  placeholder: string;
  text: string;
  onText: (text: string) => void;
}

/** A labelled choice. */
export function Choice({ label, isNeeded = false, help, fault, isWarning, ...select }: Labelled & ComponentProps<"select">) {
  return (
    <Labelling {...{ label, isNeeded, help, fault, isWarning }}>
      {(ties) => <select {...select} {...ties} className={CONTROL} />}
    </Labelling>
  );
}

export function Button({ quiet = false, ...button }: { quiet?: boolean } & ComponentProps<"button">) {
  const look = quiet
    ? "border border-line-strong bg-surface text-ink hover:bg-select"
    : "bg-act text-act-ink hover:opacity-90 font-semibold";
  return (
    <button
      type="button"
      {...button}
      className={`inline-flex h-9 max-md:min-h-11 items-center justify-center gap-2 rounded-md px-3 disabled:opacity-50 ${look} ${button.className ?? ""}`}
    />
  );
}

/** The page around a single form, for those who are not signed in. */
export function Door({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="grid min-h-full place-items-center p-4">
      <div className="w-full max-w-sm rounded-lg border border-line bg-surface p-6">
        <p className="mb-6 flex items-center gap-2 font-semibold tracking-wide text-soft">
          <img src="/mark.svg" alt="" className="size-6" /> Interlex
        </p>
        <h1 className="mb-4 text-lg font-semibold">{title}</h1>
        {children}
      </div>
    </main>
  );
}
