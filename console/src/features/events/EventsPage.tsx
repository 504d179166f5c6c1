import { useInfiniteQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { EventView } from "../../api/client";
import { EVENT_PAGE, type EventFilter, eventPage } from "../../api/queries";
import { Button, Choice, CONTROL, Field } from "../../components/Form";
import { moment } from "../../components/FrameLines";
import { Loading, Notice } from "../../components/Notice";
import { Page } from "../../components/Page";
import { since, SpanChoice } from "../../components/SpanChoice";
import { useSearch } from "../../components/search";
import { useLive } from "../../live/live";
import { listen } from "../../live/stream";
import { count, date, span } from "../../text/format";
import { useGateway } from "../gateways/current";
import { inOrder, isLate, timeSays } from "./list";

/** More than one follows by eye; the list has all of them when it is asked again. */
const FOLLOWED = 1000;

/** What happened, and when? Every change that a device told with a time of its own. */
export function EventsPage() {
  const { gateway, known, choose, gateways } = useGateway();
  const [search, change] = useSearch();
  const { status } = useLive();
  const [now] = useState(() => Date.now());
  const from = since(search.get("span") ?? "", now);
  const filter: EventFilter = {};
  for (const key of ["device", "point"] as const) {
    const text = search.get(key);
    if (text) filter[key] = text;
  }
  if (from !== undefined) filter.from = from;
  if (search.get("what") !== "all") filter.states = true;
  const links = status?.gateways.find(({ name }) => name === gateway)?.links ?? [];
  // Those of the other protocols tell no changes with times of their own.
  const devices = links.filter(({ protocol }) => protocol.startsWith("dnp3")).flatMap((link) => link.devices.map(({ name }) => name));
  const file = `/api/v1/gateways/${encodeURIComponent(gateway)}/events.csv?${new URLSearchParams(
    Object.entries(filter).map(([key, value]): [string, string] => [key, String(value)]),
  )}`;
  return (
    <Page
      title="Events"
      beside={
        <div className="flex flex-1 flex-wrap items-center gap-2">
          {known.length > 1 ? (
            <select aria-label="Gateway" value={gateway} onChange={(event) => choose(event.target.value)} className={`${CONTROL} max-w-56`}>
              {known.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          ) : null}
          <a href={file} download="events.csv" className="ml-auto text-sm text-act underline">
            Save as CSV
          </a>
        </div>
      }
    >
      <div className="mb-4 grid grid-cols-2 gap-3 md:grid-cols-4">
        <Choice label="Device" value={search.get("device") ?? ""} onChange={(event) => change({ device: event.target.value || null })}>
          <option value="">All devices</option>
          {devices.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </Choice>
        <Field
          label="Point or address"
          type="search"
          value={search.get("point") ?? ""}
          onChange={(event) => change({ point: event.target.value || null })}
        />
        <Choice label="What" value={search.get("what") ?? ""} onChange={(event) => change({ what: event.target.value || null })}>
          <option value="">States</option>
          <option value="all">States and numbers</option>
        </Choice>
        <SpanChoice word={search.get("span") ?? ""} onChoose={(word) => change({ span: word || null })} />
      </div>
      {gateways.isPending ? <Loading what="gateways" /> : null}
      {gateway ? <Sequence key={`${gateway} ${JSON.stringify(filter)}`} gateway={gateway} filter={filter} /> : null}
      {gateways.isSuccess && !gateway ? <Notice title="There is no gateway yet" /> : null}
    </Page>
  );
}

function Sequence({ gateway, filter }: { gateway: string; filter: EventFilter }) {
  const events = useInfiniteQuery({
    queryKey: ["events", gateway, filter],
    queryFn: ({ pageParam }) => eventPage(gateway, filter, pageParam),
    initialPageParam: undefined as EventView | undefined,
    getNextPageParam: (last) => (last.length < EVENT_PAGE ? undefined : last.at(-1)),
  });
  const [followed, setFollowed] = useState<EventView[]>([]);
  const [isFollowing, setFollowing] = useState(true);
  const { device, point, states } = filter;
  const { refetch } = events;
  useEffect(() => {
    if (!isFollowing) return;
    const query = new URLSearchParams();
    if (device) query.set("device", device);
    if (point) query.set("point", point);
    if (states) query.set("states", "true");
    return listen(`/api/v1/gateways/${encodeURIComponent(gateway)}/events/live?${query}`, {
      // What came between the list and the stream.
      open: () => void refetch(),
      event: (data) => {
        const told = JSON.parse(data) as EventView;
        setFollowed((before) => [...before.slice(1 - FOLLOWED), told]);
      },
    });
  }, [gateway, device, point, states, isFollowing, refetch]);
  if (events.isPending) return <Loading what="events" />;
  if (events.isError) return <Notice tone="alarm" title={events.error.message} />;
  const all = inOrder([...followed, ...events.data.pages.flat()]);
  return (
    <>
      <div className="flex flex-wrap items-center gap-3 pb-2 text-sm text-soft">
        <Button quiet onClick={() => setFollowing(!isFollowing)}>
          {isFollowing ? "Pause" : "Follow"}
        </Button>
        <p role="status">
          {isFollowing ? "Live" : "Paused"}: {count(all.length, "event")}, the last one first, each with the time of its device.
        </p>
      </div>
      {all.length === 0 ? (
        <Notice title="No event fits the filter">Outstations of DNP3 tell each change with its own time, also those of while the line was down.</Notice>
      ) : (
        <div className="overflow-x-auto rounded-lg border border-line bg-surface">
          <table aria-label="Sequence of events" className="w-full text-sm">
            <thead className="text-left text-soft max-md:hidden">
              <tr className="border-b border-line">
                {["When", "Device", "Point", "State", "Flags", ""].map((title) => (
                  <th key={title} scope="col" className="px-3 py-2 font-medium">
                    {title || <span className="sr-only">Remark</span>}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody className="divide-y divide-line">
              {all.map((event) => (
                <Line key={event.id} event={event} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {events.hasNextPage ? (
        <div className="py-4">
          <Button quiet disabled={events.isFetchingNextPage} onClick={() => void events.fetchNextPage()}>
            Older ones
          </Button>
        </div>
      ) : null}
    </>
  );
}

function Line({ event }: { event: EventView }) {
  const late = isLate(event) ? `told ${span(event.arrived - event.at)} later` : "";
  const remark = [timeSays(event.time), late].filter(Boolean).join("; ");
  return (
    <tr className="max-md:grid max-md:grid-cols-2 max-md:py-2 [&>td]:px-3 [&>td]:md:py-1.5">
      <td className="tabular-nums whitespace-nowrap text-soft max-md:col-span-2">
        {date(event.at).slice(0, 10)} {moment(event.at)}
      </td>
      <td>{event.device}</td>
      <td className="min-w-0 break-words">{event.point ?? <span className="font-mono text-xs">{event.address}</span>}</td>
      <td className="font-medium">{event.state}</td>
      <td className="text-soft">{event.flags}</td>
      <td className="text-soft max-md:col-span-2">{remark}</td>
    </tr>
  );
}
