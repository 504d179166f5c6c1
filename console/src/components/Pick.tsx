import type { ReactNode } from "react";

interface PickProps {
  isPicked: boolean;
  onPick: () => void;
  /** What stands out, and what is told beside it. */
  title: ReactNode;
  children: ReactNode;
}

/** One thing of a list, to be opened beside it. */
export function Pick({ isPicked, onPick, title, children }: PickProps) {
  return (
    <li>
      <button
        type="button"
        aria-pressed={isPicked}
        onClick={onPick}
        className="grid w-full gap-1 rounded-md border border-line bg-surface p-3 text-left hover:bg-select aria-pressed:bg-select"
      >
        <span className="flex flex-wrap items-center gap-x-3">{title}</span>
        <span className="flex flex-wrap gap-x-3 text-sm text-soft">{children}</span>
      </button>
    </li>
  );
}
