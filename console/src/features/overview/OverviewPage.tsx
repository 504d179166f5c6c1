import type { ReactNode } from "react";
import { Link } from "react-router";
import type { DeviceStatus, GatewayStatus, LinkStatus, UplinkStatus } from "../../api/client";
import { Facts } from "../../components/Facts";
import { Badge } from "../../components/Badge";
import { Loading, Notice } from "../../components/Notice";
import { State } from "../../components/State";
import { useLive, useServiceNow } from "../../live/live";
import { count, date, span } from "../../text/format";
import { Needs } from "./Needs";

/** Is everything running? The path of a sample, from the field to the broker, with what is not and why. */
export function OverviewPage() {
  const { status } = useLive();
  const now = useServiceNow();
  return (
    <main className="flex-1 overflow-auto p-4 md:p-6">
      <h1 className="sr-only">Overview</h1>
      {status === null ? <Loading what="the state of the gateways" /> : null}
      {status?.gateways.length === 0 ? (
        <Notice title="No gateway runs">
          <p>
            <Link to="/gateways" className="text-act underline">
              Add one here
            </Link>
            , or describe one in files: <code className="font-mono">interlex config init DIR</code>
          </p>
        </Notice>
      ) : null}
      {status && status.gateways.length > 0 ? <Needs status={status} now={now} /> : null}
      <div className="grid gap-10">
        {status?.gateways.map((gateway) => (
          <Gateway key={gateway.name} gateway={gateway} />
        ))}
      </div>
    </main>
  );
}

function Gateway({ gateway }: { gateway: GatewayStatus }) {
  const now = useServiceNow();
  const troubles = troublesOf(gateway);
  const notGood = gateway.points - gateway.points_good;
  const waiting = gateway.uplinks.reduce((sum, uplink) => sum + uplink.buffer.waiting, 0);
  const lost = gateway.uplinks.reduce((sum, uplink) => sum + uplink.buffer.lost, 0);
  return (
    <section aria-label={gateway.title || gateway.name}>
      <header className="mb-4 flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-xl font-semibold">{gateway.title || gateway.name}</h2>
        <div className="reading flex flex-wrap gap-2">
          {troubles > 0 ? <Badge tone="alarm">{count(troubles, "part")} not running</Badge> : null}
          {notGood > 0 ? <Badge tone="warn">{count(notGood, "point")} not good</Badge> : null}
        </div>
      </header>
      <div className="reading grid items-start gap-4 lg:grid-cols-[minmax(0,1.7fr)_auto_minmax(0,1fr)_auto_minmax(0,1.2fr)] lg:gap-0">
        <Stage title="Field">
          {gateway.links.map((link) => (
            <FieldLink key={link.name} link={link} now={now} />
          ))}
        </Stage>
        <Way flows={gateway.links.some((link) => link.state === "up")} text={`${requests(gateway)} requests/s`} />
        <Stage title="Gateway">
          <Box>
            <p className="font-semibold">{gateway.name}</p>
            <Facts
              facts={[
                ["Running for", span(now - gateway.since)],
                ["Revision", String(gateway.revision)],
                ["Points good", `${gateway.points_good} of ${gateway.points}`],
                ["Waiting for brokers", waiting.toLocaleString("en")],
                ["Lost", lost.toLocaleString("en")],
              ]}
            />
            <Link to={`/outages?gateway=${encodeURIComponent(gateway.name)}`} className="mt-2 flex items-center text-act underline max-md:min-h-11">
              Outages of before
            </Link>
            {gateway.points_good < gateway.points ? (
              <Link to="/points?quality=not-good" className="mt-2 inline-flex items-center text-act underline max-md:min-h-11">
                Show the points that are not good
              </Link>
            ) : null}
          </Box>
        </Stage>
        <Way flows={gateway.uplinks.some((uplink) => uplink.state === "online")} text={`${samples(gateway)} samples/s`} />
        <Stage title="Broker">
          {gateway.uplinks.map((uplink) => (
            <Broker key={uplink.name} uplink={uplink} now={now} />
          ))}
          {gateway.uplinks.length === 0 ? <Notice title="No uplink is described" /> : null}
        </Stage>
      </div>
    </section>
  );
}

function troublesOf(gateway: GatewayStatus): number {
  const links = gateway.links.filter((link) => link.state !== "up").length;
  const devices = gateway.links.flatMap((link) => link.devices).filter((device) => device.state === "silent").length;
  return links + devices + gateway.uplinks.filter((uplink) => uplink.state !== "online").length;
}

function requests(gateway: GatewayStatus): string {
  return gateway.links.reduce((sum, link) => sum + link.requests_per_second, 0).toFixed(1);
}

function samples(gateway: GatewayStatus): string {
  return gateway.uplinks.reduce((sum, uplink) => sum + uplink.samples_per_second, 0).toFixed(1);
}

function Stage({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="grid min-w-0 gap-3">
      <h3 className="text-xs font-semibold tracking-widest text-faint uppercase">{title}</h3>
      {children}
    </div>
  );
}

/** The way between two stages: a line that is broken when nothing gets through. */
function Way({ flows, text }: { flows: boolean; text: string }) {
  return (
    <div className="flex items-center justify-center gap-2 px-2 text-xs text-soft lg:mt-8 lg:w-28 lg:flex-col lg:gap-1">
      <span>{flows ? text : "nothing passes"}</span>
      <svg aria-hidden="true" viewBox="0 0 96 10" className="h-2.5 w-24 max-lg:w-10 fill-none stroke-current" strokeWidth="1.5">
        <path d="M0 5h94" strokeDasharray={flows ? "none" : "4 6"} />
        <path d="m89 1 5 4-5 4" />
      </svg>
    </div>
  );
}

function Box({ children }: { children: ReactNode }) {
  return <div className="min-w-0 rounded-md border border-line bg-surface p-3">{children}</div>;
}

function FieldLink({ link, now }: { link: LinkStatus; now: number }) {
  return (
    <Box>
      <div className="flex flex-wrap items-baseline justify-between gap-x-3">
        <p className="font-semibold">{link.name}</p>
        <p className="text-sm">
          <State word={link.state} /> <span className="text-faint">for {span(now - link.since)}</span>
        </p>
      </div>
      <p className="text-sm text-soft">
        {link.protocol} · {link.target}
      </p>
      {link.state === "up" ? null : <Why error={link.last_error} at={link.last_error_at} now={now} />}
      <ul className="mt-2 divide-y divide-line border-t border-line">
        {link.devices.map((device) => (
          <DeviceRow key={device.name} device={device} now={now} />
        ))}
      </ul>
    </Box>
  );
}

function DeviceRow({ device, now }: { device: DeviceStatus; now: number }) {
  return (
    <li className="py-1.5 text-sm">
      <div className="flex flex-wrap items-baseline justify-between gap-x-3">
        <Link to={`/points?device=${encodeURIComponent(device.name)}`} className="font-medium hover:underline max-md:inline-flex max-md:min-h-11 max-md:items-center">
          {device.title || device.name}
        </Link>
        <span>
          <State word={device.state} /> <span className="text-faint">for {span(now - device.since)}</span>
        </span>
      </div>
      <p className="text-faint">
        {count(device.points, "point")} in {count(device.requests, "request")}
      </p>
      {device.state === "silent" ? <Why error={device.last_error} at={device.last_error_at} now={now} /> : null}
    </li>
  );
}

function Broker({ uplink, now }: { uplink: UplinkStatus; now: number }) {
  return (
    <Box>
      <div className="flex flex-wrap items-baseline justify-between gap-x-3">
        <p className="font-semibold">{uplink.name}</p>
        <p className="text-sm">
          <State word={uplink.state} /> <span className="text-faint">for {span(now - uplink.since)}</span>
        </p>
      </div>
      <p className="text-sm break-words text-soft">
        {uplink.kind === "json" ? "Messages" : "Sparkplug B"} · {uplink.url}
      </p>
      {uplink.node ? <p className="text-sm break-words text-soft">Node {uplink.node}</p> : null}
      {uplink.buffer.journal_error ? <Why error={`The journal waits for the database: ${uplink.buffer.journal_error}`} now={now} /> : null}
      {uplink.buffer.is_full ? <Why error="There is no more room for samples: some are lost." now={now} /> : null}
      {ending(uplink, now) ? <Why error={ending(uplink, now)} now={now} /> : null}
      {uplink.host_in_doubt ? <Why error="The primary host may not be back: what waits is held." now={now} /> : null}
      {uplink.state === "waiting" ? <Why error="Connected; waits for the primary host to say that it is online." now={now} /> : null}
      {uplink.state === "online" || uplink.state === "waiting" ? null : <Why error={uplink.last_error} at={uplink.last_error_at} now={now} />}
      <Facts
        facts={[
          [uplink.kind === "json" ? "Messages delivered" : "Samples delivered", uplink.samples_delivered.toLocaleString("en")],
          ["Published", uplink.messages.toLocaleString("en")],
          ["Waiting", waiting(uplink, now)],
          ["Lost", uplink.buffer.lost.toLocaleString("en")],
          ["Counted since", date(uplink.counted_since)],
        ]}
      />
    </Box>
  );
}

const DAY = 86_400_000;

/** A warning before the certificate that is shown to the broker ends. */
function ending({ certificate_until }: UplinkStatus, now: number): string | null {
  if (certificate_until == null || certificate_until - now > 30 * DAY) return null;
  return certificate_until < now ? "Its certificate has ended." : `Its certificate ends in ${span(certificate_until - now)}.`;
}

/** How many samples wait, since when, and how many of them are safe from a crash. */
function waiting({ buffer }: UplinkStatus, now: number): string {
  const count = buffer.waiting.toLocaleString("en");
  if (buffer.waiting === 0 || buffer.durable === 0 || buffer.oldest_at == null) return count;
  return `${count} for ${span(now - buffer.oldest_at)}, ${buffer.durable.toLocaleString("en")} in the database`;
}

function Why({ error, at, now }: { error?: string | null | undefined; at?: number | null | undefined; now: number }) {
  if (!error) return null;
  return (
    <p className="mt-1 text-sm break-words text-ink">
      {error}
      {at ? <span className="text-faint"> · {span(now - at)} ago</span> : null}
    </p>
  );
}
