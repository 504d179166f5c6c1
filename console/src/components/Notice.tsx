import type { ReactNode } from "react";
import type { Tone } from "./Badge";

const LOOKS: Record<Tone, string> = {
  plain: "border-line bg-surface text-soft",
  warn: "border-warn bg-warn-ground text-warn",
  alarm: "border-alarm bg-alarm-ground text-alarm",
};

/** A message in the page: what is going on, and what to do about it. */
export function Notice({ tone = "plain", title, children }: { tone?: Tone; title: string; children?: ReactNode }) {
  return (
    <div role={tone === "plain" ? "status" : "alert"} className={`rounded-md border px-4 py-3 ${LOOKS[tone]}`}>
      <p className="font-semibold">{title}</p>
      {children ? <div className="mt-1 text-sm">{children}</div> : null}
    </div>
  );
}

/** What stands where something is still on its way. */
export function Loading({ what }: { what: string }) {
  return (
    <p role="status" className="animate-pulse px-4 py-8 text-center text-soft">
      Loading {what} …
    </p>
  );
}
