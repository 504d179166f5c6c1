import { Badge, type Tone } from "./Badge";

/** How much a state of the running system needs a person. */
const TONES: Record<string, Tone> = {
  up: "plain",
  online: "plain",
  running: "plain",
  good: "plain",
  connecting: "warn",
  waiting: "warn",
  uncertain: "warn",
  unreachable: "warn",
  down: "alarm",
  silent: "alarm",
  offline: "alarm",
  away: "alarm",
  bad: "alarm",
};

/** A state as its word; colour and mark only where it needs a person. */
export function State({ word }: { word: string }) {
  return <Badge tone={TONES[word] ?? "plain"}>{word}</Badge>;
}
