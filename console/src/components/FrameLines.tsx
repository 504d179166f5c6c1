import { memo } from "react";
import type { FrameView } from "../api/client";

// Made once: a recording has hundreds of them, and is looked at anew every second.
const TIME = new Intl.DateTimeFormat([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hourCycle: "h23" });

/** A moment of a recording: to the millisecond, since that is what one looks for. */
export function moment(millis: number): string {
  return `${TIME.format(millis)}.${String(new Date(millis).getMilliseconds()).padStart(3, "0")}`;
}

/** Whom a frame is to or from: its device, or several that share what it asks; else the protocol's word for it. */
function who(frame: FrameView): string {
  return frame.devices.join(", ") || (frame.peer ?? "");
}

/** Frames as they went over the line: what each says, and its bytes below. */
export function FrameLines({ frames, label }: { frames: readonly FrameView[]; label: string }) {
  return (
    <ol aria-label={label} className="grid text-sm">
      {frames.map((frame) => (
        <Line key={frame.number} frame={frame} />
      ))}
    </ol>
  );
}

/** What went over the line does not change any more: a line that stands there is not drawn again. */
const Line = memo(
  function Line({ frame }: { frame: FrameView }) {
    return (
      <li
        className={`grid grid-cols-[6.5rem_1rem_minmax(0,1fr)_auto] gap-x-2 border-b border-line px-3 py-1.5 md:grid-cols-[6.5rem_1rem_9rem_minmax(0,1fr)_auto] ${frame.error ? "bg-alarm-ground text-alarm" : ""}`}
      >
        <span className="font-mono text-xs leading-5 text-faint">{moment(frame.at)}</span>
        <span aria-hidden="true">{frame.sent ? "→" : "←"}</span>
        <span className="sr-only">{frame.sent ? "sent" : "received"}</span>
        <span className="truncate text-soft max-md:hidden">{who(frame)}</span>
        <span className="break-words">
          <span className="text-soft md:hidden">{who(frame)}: </span>
          {frame.text}
          {frame.error && frame.request ? <span className="text-soft"> ({frame.request})</span> : null}
        </span>
        <span className="text-right tabular-nums text-soft">{frame.answer_ms == null ? "" : `${frame.answer_ms.toFixed(1)} ms`}</span>
        {frame.hex ? (
          <span className="col-span-full font-mono text-xs leading-5 break-words text-faint md:col-start-3">{frame.hex}</span>
        ) : null}
      </li>
    );
  },
  ({ frame: before }, { frame: after }) => before.number === after.number && before.at === after.at && before.text === after.text,
);
