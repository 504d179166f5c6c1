import { ApiFailure, type CompareRequest, type OfferEvent, type OffersRequest, type Sibling } from "../../api/client";

/** Asks for offers and tells what comes, line by line; ends when `stop` is told. */
export function askForOffers(gateway: string, body: OffersRequest, stop: AbortSignal, onEvent: (event: OfferEvent) => void) {
  return linesOf(gateway, "offers", body, stop, onEvent);
}

/** Asks other devices for what was chosen from one like them; tells what each says otherwise. */
export function compareOffers(gateway: string, body: CompareRequest, stop: AbortSignal, onSibling: (sibling: Sibling) => void) {
  return linesOf(gateway, "offers/compare", body, stop, onSibling);
}

async function linesOf<Line>(gateway: string, path: string, body: unknown, stop: AbortSignal, onLine: (line: Line) => void) {
  const answer = await fetch(`/api/v1/gateways/${encodeURIComponent(gateway)}/${path}`, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify(body),
    signal: stop,
  });
  if (!answer.ok || !answer.body) {
    const details = (await answer.json().catch(() => null)) as { detail?: string } | null;
    throw new ApiFailure(answer.status, details?.detail ?? `The service answered ${answer.status}.`);
  }
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const lines = (rest + value).split("\n");
    rest = lines.pop() ?? "";
    for (const line of lines) onLine(JSON.parse(line) as Line);
  }
}
