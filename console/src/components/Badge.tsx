import type { ReactNode } from "react";

export type Tone = "plain" | "warn" | "alarm";

const LOOKS: Record<Tone, string> = {
  plain: "text-soft",
  warn: "bg-warn-ground text-warn px-1.5",
  alarm: "bg-alarm-ground text-alarm px-1.5 font-semibold",
};

/** Shapes besides colours: a dot, a triangle, a square. */
const MARKS: Record<Tone, ReactNode> = {
  plain: <circle cx="5" cy="5" r="2.5" />,
  warn: <path d="M5 1 9.5 9h-9z" />,
  alarm: <rect x="1" y="1" width="8" height="8" />,
};

export function Badge({ tone, children }: { tone: Tone; children: ReactNode }) {
  return (
    <span className={`inline-flex max-w-full items-center gap-1.5 rounded-[3px] whitespace-nowrap ${LOOKS[tone]}`}>
      <svg aria-hidden="true" viewBox="0 0 10 10" className="size-2 shrink-0 fill-current">
        {MARKS[tone]}
      </svg>
      <span className="truncate">{children}</span>
    </span>
  );
}
