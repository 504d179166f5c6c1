import { Link } from "react-router";
import type { Difference, ObjectChange, PartChange } from "../../api/client";
import { Badge } from "../../components/Badge";
import { Notice } from "../../components/Notice";
import { count } from "../../text/format";

const FATES: Record<PartChange["fate"], string> = {
  started: "starts",
  restarted: "restarts",
  changed: "stays connected, changed",
  reborn: "tells births anew",
  stopped: "stops",
  untouched: "goes on untouched",
};

const GROUPS: { change: ObjectChange["change"]; title: string; mark: string }[] = [
  { change: "added", title: "Added", mark: "+" },
  { change: "changed", title: "Changed", mark: "~" },
  { change: "removed", title: "Removed", mark: "−" },
];

/** More than anybody reads; the client tells them all. */
const MOST = 300;

/** What one description would change in the place of another: what happens to the running parts, then what differs. */
export function DifferenceView({ difference, gateway }: { difference: Difference; gateway: string }) {
  if (difference.objects.length === 0 && !difference.reordered) return <Notice title="Nothing differs" />;
  return (
    <div className="grid gap-4">
      <ul aria-label="What happens to the running parts" className="grid gap-1 text-sm">
        {difference.links.map((part) => (
          <Part key={part.name} what="link" part={part} />
        ))}
        {difference.uplinks.map((part) => (
          <Part key={part.name} what="uplink" part={part} />
        ))}
      </ul>
      {difference.reordered ? <p className="text-sm text-soft">Objects stand in another order.</p> : null}
      {GROUPS.map(({ change, title, mark }) => {
        const objects = difference.objects.filter((object) => object.change === change);
        if (objects.length === 0) return null;
        return (
          <section key={change} aria-label={title}>
            <h3 className="mb-1 text-sm font-semibold text-soft">
              {title}: {count(objects.length, "object")}
            </h3>
            <ul className="grid gap-1 text-sm">
              {objects.slice(0, MOST).map((object) => (
                <li key={`${object.object.class}/${object.object.list ?? ""}/${object.object.name}`} className="flex gap-2">
                  <span aria-hidden="true" className="w-3 font-mono text-soft">
                    {mark}
                  </span>
                  {change === "removed" ? (
                    object.words
                  ) : (
                    <Link to={placeOf(gateway, object)} className="hover:text-act hover:underline">
                      {object.words}
                    </Link>
                  )}
                </li>
              ))}
              {objects.length > MOST ? <li className="text-soft">… and {objects.length - MOST} more</li> : null}
            </ul>
          </section>
        );
      })}
      {difference.more > 0 ? <p className="text-sm text-soft">And {count(difference.more, "more object", "more objects")}.</p> : null}
    </div>
  );
}

function Part({ what, part }: { what: string; part: PartChange }) {
  const isTouched = part.fate !== "untouched";
  return (
    <li className="flex flex-wrap items-center gap-x-2">
      <span className="text-soft">{what}</span>
      <span className="font-medium">{part.name}</span>
      {isTouched ? <Badge tone="warn">{FATES[part.fate]}</Badge> : <span className="text-soft">{FATES[part.fate]}</span>}
      {part.why && part.why.length > 0 ? <span className="text-soft">for {part.why.join(", ")}</span> : null}
    </li>
  );
}

/** The page that edits an object. */
export function placeOf(gateway: string, { object, devices }: { object: ObjectChange["object"]; devices?: string[] }, field = ""): string {
  const { class: of, name } = object;
  const to = (path: string, query: Record<string, string>) => `${path}?${new URLSearchParams({ gateway, ...query })}${field ? `#${field}` : ""}`;
  switch (of) {
    case "link":
      return to("/links", { open: name });
    case "device":
      return to("/devices", { open: name, tab: "settings" });
    case "point":
      return to("/devices", { open: devices?.[0] ?? "", tab: "points", point: name });
    case "rate":
    case "uplink":
      return to("/gateways", { open: `${of}:${name}` });
    case "gateway":
      return to("/gateways", {});
  }
}
