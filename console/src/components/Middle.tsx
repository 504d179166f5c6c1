/** Letters at the end that are always seen. */
const TAIL = 7;

/**
 * A text that is cut in its middle where there is no room for it: names of a plant differ at their ends. What is read aloud, searched for
 * and copied is the whole text; what is drawn is not in the page's text.
 */
export function Middle({ text }: { text: string }) {
  if (text.length <= 2 * TAIL) return <span className="truncate">{text}</span>;
  return (
    <span className="relative flex min-w-0" title={text}>
      <span className="sr-only">{text}</span>
      <span aria-hidden="true" data-text={text.slice(0, -TAIL)} className="min-w-0 truncate before:content-[attr(data-text)]" />
      <span aria-hidden="true" data-text={text.slice(-TAIL)} className="shrink-0 whitespace-pre before:content-[attr(data-text)]" />
    </span>
  );
}
