import { Label } from "radix-ui";
import { type ComponentProps, type ReactNode, useId } from "react";

/** A labelled input with its help below. */
export function Field({ label, help, ...input }: { label: string; help?: string } & ComponentProps<"input">) {
  const id = useId();
  const helpId = help ? `${id}-help` : undefined;
  return (
    <div className="grid gap-1">
      <Label.Root htmlFor={id} className="font-medium">
        {label}
      </Label.Root>
      <input
        {...input}
        id={id}
        aria-describedby={helpId}
        className="h-10 rounded-md border border-line-strong bg-raised px-3"
      />
      {help ? (
        <p id={helpId} className="text-xs text-faint">
          {help}
        </p>
      ) : null}
    </div>
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
      className={`inline-flex h-9 items-center justify-center gap-2 rounded-md px-3 disabled:opacity-50 ${look} ${button.className ?? ""}`}
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
