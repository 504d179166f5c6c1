import type { Offer, OfferEvent } from "../../api/client";
import { shown } from "../description/schema";

/** What has been told so far. */
export interface Told {
  state: "idle" | "running" | "over" | "failed";
  /** How it ended, or why it cannot go on. */
  said: string;
  done: number;
  total: number;
  devices: { keys: Record<string, unknown>; said: string }[];
  /** How what a link leads to can be reached: keys of the link. */
  ways: { keys: Record<string, unknown>; said: string }[];
  notes: string[];
  offers: Offer[];
}

export const NOTHING: Told = { state: "idle", said: "", done: 0, total: 1, devices: [], ways: [], notes: [], offers: [] };

/** What is known after some events more. */
export function after(told: Told, events: OfferEvent[]): Told {
  const next: Told = { ...told, devices: [...told.devices], ways: [...told.ways], notes: [...told.notes], offers: [...told.offers] };
  for (const event of events) {
    switch (event.kind) {
      case "progress":
        next.done = event.done;
        next.total = Math.max(event.total, 1);
        break;
      case "device":
        next.devices.push({ keys: event.device, said: event.said });
        break;
      case "way":
        next.ways.push({ keys: event.link, said: event.said });
        break;
      case "note":
        next.notes.push(event.text);
        break;
      case "points":
        next.offers.push(...event.offers);
        break;
      case "done":
        next.state = "over";
        next.said = event.requests > 0 ? `Done, with ${event.requests === 1 ? "1 request" : `${event.requests.toLocaleString("en")} requests`}.` : "";
        break;
      case "failed":
        next.state = "failed";
        next.said = event.why;
        break;
    }
  }
  return next;
}

/** The places of the offers that a text is in: their path, address, title, unit or note. */
export function matching(offers: Offer[], text: string): number[] {
  const wanted = text.trim().toLowerCase();
  const places = offers.map((_, at) => at);
  if (wanted === "") return places;
  return places.filter((at) => {
    const offer = offers[at];
    if (!offer) return false;
    const { address, title, unit } = offer.point as Record<string, unknown>;
    return [offer.path.join("/"), shown(address), shown(title), shown(unit), offer.note ?? ""].some((place) => place.toLowerCase().includes(wanted));
  });
}

/** A link without what was accepted of another certificate. */
export function withoutTrust(link: Record<string, unknown>): Record<string, unknown> {
  const { accept: _accept, "server-certificate": _certificate, ...rest } = link;
  return rest;
}

/** Whether a name fits a pattern, in which * stands for any text. */
export function fits(pattern: string, name: string): boolean {
  const [first = "", ...rest] = pattern.trim().split("*");
  if (rest.length === 0) return name === first;
  if (!name.startsWith(first)) return false;
  let at = first.length;
  const last = rest.pop() ?? "";
  for (const part of rest) {
    const found = name.indexOf(part, at);
    if (found < 0) return false;
    at = found + part.length;
  }
  return name.length - last.length >= at && name.endsWith(last);
}
