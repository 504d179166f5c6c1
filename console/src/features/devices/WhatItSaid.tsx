import type { Content, TrialReading } from "../../api/client";
import { FrameLines } from "../../components/FrameLines";
import { exact, raw } from "../../text/format";
import { partsOf } from "./protocol";

/** What a device said when it was asked for a value: that, what its protocol says with it, and how it went over the line. */
export function WhatItSaid({ reading, link }: { reading: TrialReading; link: Content }) {
  const { Brought, Alternatives } = partsOf(link);
  return (
    <>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 rounded-md border border-line bg-raised p-3 text-sm">
        <dt className="text-soft">Value</dt>
        <dd className="font-semibold tabular-nums">
          {exact(reading.value)} {reading.unit}
        </dd>
        <dt className="text-soft">Raw</dt>
        <dd className="font-mono text-xs leading-5">{raw(reading.raw)}</dd>
        <Brought reading={reading} />
        <dt className="text-soft">Answer</dt>
        <dd className="tabular-nums">
          {reading.answer_ms.toFixed(1)} ms{reading.shared_connection ? ", over the connection of the running link" : ""}
        </dd>
      </dl>
      <Alternatives reading={reading} />
      <details className="rounded-md border border-line p-3 text-sm">
        <summary className="cursor-pointer text-soft">On the line</summary>
        <FrameLines frames={reading.frames} label="On the line" />
      </details>
    </>
  );
}
