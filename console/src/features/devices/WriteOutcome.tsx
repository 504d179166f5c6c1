import type { WriteOutcome as Outcome } from "../../api/client";
import { FrameLines } from "../../components/FrameLines";
import { Notice } from "../../components/Notice";
import { raw, value } from "../../text/format";

/** A value as somebody types it; what it means follows from the point. A decimal comma is a point. */
export function typedValue(typed: string): string {
  const text = typed.trim();
  return /^[+-]?\d+,\d+$/.test(text) ? text.replace(",", ".") : text;
}

/** What became of a write: what was sent, and what the device says now. */
export function WriteOutcome({ of, isGivenBack = false }: { of: Outcome; isGivenBack?: boolean }) {
  if (of.confirmed === false) {
    return (
      <Notice tone="warn" title={`The device took ${raw(of.written)}, but says ${raw(of.raw)} now`}>
        It may need longer, hold the value between limits of its own, or ignore it.
      </Notice>
    );
  }
  if (of.answer && !of.read_back_error) {
    return (
      <Notice title={`Accepted: ${of.answer}`}>
        {of.address}, {of.answer_ms.toFixed(1)} ms
        <details className="mt-1">
          <summary className="cursor-pointer">On the line</summary>
          <FrameLines frames={of.frames} label="On the line" />
        </details>
      </Notice>
    );
  }
  const said = of.read_back_error ? `not read back: ${of.read_back_error}` : of.confirmed ? `reads back ${value(of.value)} ${of.unit}${of.words === "confirmed" ? "" : ` (${of.words})`}` : "sent to all units, which do not answer";
  return (
    <Notice title={`${isGivenBack ? "Relinquished" : "Written"}, ${said}`}>
      raw {raw(of.written)} at {of.address}, {of.answer_ms.toFixed(1)} ms
      <details className="mt-1">
        <summary className="cursor-pointer">On the line</summary>
        <FrameLines frames={of.frames} label="On the line" />
      </details>
    </Notice>
  );
}
