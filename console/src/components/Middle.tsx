/** Letters at the end that are always seen. */
const TAIL = 7;

/** A text that is cut in its middle where there is no room for it: names of a plant differ at their ends. */
export function Middle({ text }: { text: string }) {
  if (text.length <= 2 * TAIL) return <span className="truncate">{text}</span>;
  return (
    <span className="flex min-w-0" title={text}>
      <span className="min-w-0 truncate">{text.slice(0, -TAIL)}</span>
      <span className="shrink-0 whitespace-pre">{text.slice(-TAIL)}</span>
    </span>
  );
}
