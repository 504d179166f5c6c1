import { Link } from "react-router";
import type { Need, Status } from "../../api/client";
import { Badge, type Tone } from "../../components/Badge";
import { count, span } from "../../text/format";

const LOOKS: Record<Need["urgency"], { tone: Tone; word: string }> = {
  losing: { tone: "alarm", word: "losing values" },
  broken: { tone: "alarm", word: "does not work" },
  doubtful: { tone: "warn", word: "in doubt" },
  soon: { tone: "warn", word: "soon" },
};

/** Where something can be done about it. */
export function placeOf({ kind, gateway, name, urgency }: Need): string {
  const query = (of: Record<string, string>) => new URLSearchParams(of).toString();
  switch (kind) {
    case "uplink":
      return `/gateways?${query({ gateway, open: `uplink:${name}` })}`;
    case "link":
      return `/links?${query({ gateway, open: name })}`;
    case "device":
      return urgency === "doubtful" ? `/points?${query({ device: name, quality: "not-good" })}` : `/devices?${query({ gateway, open: name, tab: "line" })}`;
    default:
      return "";
  }
}

/** What needs a person on the whole site: the worst first, since when, and what to do. */
export function Needs({ status, now }: { status: Status; now: number }) {
  const { needs, gateways } = status;
  const points = gateways.reduce((sum, gateway) => sum + gateway.points, 0);
  const good = gateways.reduce((sum, gateway) => sum + gateway.points_good, 0);
  const hasOne = gateways.length > 1;
  if (needs.length === 0) {
    return (
      <p className="mb-6 text-lg">
        {good === points ? "Everything runs." : "Everything runs; some points were not read yet."}{" "}
        <span className="text-soft">
          {good.toLocaleString("en")} of {count(points, "point")} good{hasOne ? ` on ${count(gateways.length, "gateway")}` : ""}.
        </span>
      </p>
    );
  }
  return (
    <section aria-label="What needs a person" className="mb-8">
      <h2 className="mb-2 text-lg font-semibold">
        {needs.length === 1 ? "One thing needs" : `${needs.length} things need`} a person
      </h2>
      <ol className="divide-y divide-line border-y border-line">
        {needs.map((need) => (
          <li key={`${need.gateway}/${need.kind}/${need.name}/${need.urgency}`} className="grid gap-x-4 gap-y-0.5 py-2 md:grid-cols-[8rem_minmax(0,1fr)_6rem]">
            <span>
              <Badge tone={LOOKS[need.urgency].tone}>{LOOKS[need.urgency].word}</Badge>
            </span>
            <div className="min-w-0">
              <p className="break-words">
                {placeOf(need) ? (
                  <Link to={placeOf(need)} className="font-semibold underline-offset-2 hover:underline max-md:inline-flex max-md:min-h-11 max-md:items-center">
                    {need.kind} {need.name}
                  </Link>
                ) : (
                  <span className="font-semibold">{need.name}</span>
                )}
                {hasOne && need.gateway ? <span className="text-soft"> of {need.gateway}</span> : null}: {need.what}
              </p>
              <p className="text-sm text-soft">{need.action}</p>
            </div>
            <span className="text-sm text-soft md:text-right">{need.since == null ? "" : `for ${span(now - need.since)}`}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
