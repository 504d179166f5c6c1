/** How long to wait before a stream that was refused is tried again. */
const AGAIN = 2000;

/**
 * Listens to a stream for as long as somebody wants it. A browser reconnects one that ends, and gives up one that is refused: a service
 * that has much to do for a moment, or too many streams that are just being closed. It is opened again then.
 */
export function listen(url: string, on: Record<string, (data: string) => void>): () => void {
  let source: EventSource | null = null;
  let timer: number | undefined;
  const open = () => {
    const opened = new EventSource(url);
    source = opened;
    for (const [name, take] of Object.entries(on)) opened.addEventListener(name, (event) => take(String((event as MessageEvent<string>).data)));
    opened.onerror = () => {
      if (opened.readyState !== EventSource.CLOSED || source !== opened) return;
      timer = window.setTimeout(open, AGAIN);
    };
  };
  open();
  return () => {
    window.clearTimeout(timer);
    source?.close();
    source = null;
  };
}
