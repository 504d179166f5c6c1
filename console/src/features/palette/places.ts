import type { GatewayStatus, GatewayView, PointView } from "../../api/client";

/** Somewhere to go. */
export interface Place {
  what: "page" | "gateway" | "link" | "device" | "point" | "do";
  label: string;
  more: string;
  to: string;
}

const page = (label: string, to: string, more: string): Place => ({ what: "page", label, more, to });

const PAGES: Place[] = [
  page("Overview", "/", "is everything running"),
  page("Points", "/points", "every value, live"),
  page("Events", "/events", "what happened, and when"),
  page("Frames", "/frames", "what goes over the line"),
  page("Buffer", "/buffer", "what waits for each broker"),
  page("Loop checks", "/loop-checks", "does each point say what its device shows"),
  page("Outages", "/outages", "what did not work, and what became of the values"),
  page("Tap", "/tap", "what arrives at the broker"),
  page("Gateways", "/gateways", "names, rates, uplinks"),
  page("Links", "/links", "the ways to the field"),
  page("Devices", "/devices", "and their points"),
  page("Models", "/models", "point lists for every unit of a make"),
  page("Changes", "/changes", "what the draft would change; activate it"),
  page("Revisions", "/revisions", "what ran when, and the way back"),
  page("People", "/people", "who can sign in; your password; tokens"),
  page("Audit", "/audit", "who did what"),
  page("API", "/api-reference", "for programs"),
  { what: "do", label: "Points that are not good", more: "", to: "/points?quality=not-good" },
];

const FOR_ENGINEERS: Place[] = [
  { what: "do", label: "Add a device", more: "step by step", to: "/devices/add" },
  { what: "do", label: "Activate the draft", more: "", to: "/changes" },
];

/** Everything that has a page or a place on one; what a person may not do is left out. */
export function placesOf(running: GatewayStatus[], gateways: GatewayView[], points: PointView[], mayEdit: boolean): Place[] {
  const query = (of: Record<string, string>) => new URLSearchParams(of).toString();
  const places = [...PAGES, ...(mayEdit ? FOR_ENGINEERS : [])];
  for (const { name, title } of gateways) places.push({ what: "gateway", label: name, more: title, to: `/gateways?${query({ gateway: name })}` });
  for (const { name: gateway, links } of running) {
    for (const link of links) {
      places.push({ what: "link", label: link.name, more: `${gateway}, ${link.target}`, to: `/links?${query({ gateway, open: link.name })}` });
      for (const device of link.devices) {
        places.push({ what: "device", label: device.name, more: device.title, to: `/devices?${query({ gateway, open: device.name })}` });
      }
    }
  }
  for (const point of points) {
    places.push({ what: "point", label: point.name, more: `${point.device} · ${point.title}`, to: `/points?${query({ point: point.id })}` });
  }
  return places;
}

/** As many as one looks through. */
export const MOST = 40;

/** The places that fit what was typed: those whose name starts with it first. */
export function select(places: Place[], text: string): Place[] {
  const wanted = text.trim().toLowerCase();
  if (wanted === "") return places.slice(0, MOST);
  const rank = (place: Place) => {
    const label = place.label.toLowerCase();
    if (label.startsWith(wanted)) return 0;
    if (label.includes(wanted)) return 1;
    return `${place.more} ${place.what}`.toLowerCase().includes(wanted) ? 2 : 3;
  };
  return places
    .map((place) => ({ place, rank: rank(place) }))
    .filter(({ rank }) => rank < 3)
    .sort((left, right) => left.rank - right.rank)
    .slice(0, MOST)
    .map(({ place }) => place);
}
