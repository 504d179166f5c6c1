import { Choice } from "./Form";

const SPANS: [string, string, number][] = [
  ["", "Ever", 0],
  ["hour", "Last hour", 3_600_000],
  ["day", "Last day", 86_400_000],
  ["week", "Last week", 604_800_000],
];

/** Since when, in milliseconds since 1970; undefined for ever. */
export function since(word: string, now: number): number | undefined {
  const millis = SPANS.find(([known]) => known === word)?.[2] ?? 0;
  return millis > 0 ? now - millis : undefined;
}

/** How far back a list reaches. */
export function SpanChoice({ word, onChoose }: { word: string; onChoose: (word: string) => void }) {
  return (
    <Choice label="When" value={word} onChange={(event) => onChoose(event.target.value)}>
      {SPANS.map(([known, title]) => (
        <option key={known} value={known}>
          {title}
        </option>
      ))}
    </Choice>
  );
}
