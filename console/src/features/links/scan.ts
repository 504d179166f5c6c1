import { ApiFailure, type Content, type ScanEvent } from "../../api/client";

export interface ScanRequest {
  link: Content;
  unit?: number;
  table?: string;
  first?: number;
  last?: number;
}

/** Runs a scan and tells what it finds, line by line as it comes; ends when `stop` is told. */
export async function scan(gateway: string, body: ScanRequest, stop: AbortSignal, onEvent: (event: ScanEvent) => void) {
  const answer = await fetch(`/api/v1/gateways/${encodeURIComponent(gateway)}/trials/scan`, {
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
    for (const line of lines) onEvent(JSON.parse(line) as ScanEvent);
  }
}
