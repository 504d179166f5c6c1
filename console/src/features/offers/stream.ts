import { ApiFailure, type OfferEvent, type OffersRequest } from "../../api/client";

/** Asks for offers and tells what comes, line by line; ends when `stop` is told. */
export async function askForOffers(gateway: string, body: OffersRequest, stop: AbortSignal, onEvent: (event: OfferEvent) => void) {
  const answer = await fetch(`/api/v1/gateways/${encodeURIComponent(gateway)}/offers`, {
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
    for (const line of lines) onEvent(JSON.parse(line) as OfferEvent);
  }
}
