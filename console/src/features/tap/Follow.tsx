import { useQuery } from "@tanstack/react-query";
import { pointQuery, publishedQuery } from "../../api/queries";
import { useSearch } from "../../components/search";
import { useReadings, useServiceNow } from "../../live/live";
import { span, value } from "../../text/format";
import { PointPick } from "../points/PointPick";
import { withReading } from "../points/rows";
import { useBirths } from "./births";
import type { TapMetric, TopicFacts } from "./topics";

interface FollowProps {
  gateway: string;
  uplink: string;
  topics: ReadonlyMap<string, TopicFacts>;
}

/** One point in the field, as it was published, and as it arrived: where it stops is where the fault is. */
export function Follow({ gateway, uplink, topics }: FollowProps) {
  const [search, change] = useSearch();
  const wanted = search.get("point");
  const id = wanted?.startsWith(`${gateway}/`) ? wanted : null;
  const point = useQuery({ ...pointQuery(id ?? ""), enabled: id !== null });
  const readings = useReadings(id === null ? [] : [id]);
  const followed = id !== null && point.data ? withReading(point.data, readings) : undefined;
  const published = useQuery({
    ...publishedQuery(gateway, uplink, followed?.device ?? "", followed?.name ?? ""),
    enabled: followed !== undefined,
    refetchInterval: 1000,
  });
  const now = useServiceNow();
  const isPublished = published.data != null;
  const arrived = followed ? arrivedOf(topics, followed.device, followed.name) : null;
  useBirths(gateway, followed ? uplink : undefined, !arrived || !isPublished);
  const ago = (at: number | null | undefined) => (at == null ? "not yet" : `${span(Math.max(0, now - at))} ago`);
  const { data } = published;
  return (
    <section aria-label="Follow a point" className="rounded-lg border border-line bg-surface p-3">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="font-semibold">Follow a point</h2>
        <PointPick key={gateway} label="Point to follow" {...{ gateway, id }} onChoose={(point) => change({ point })} />
      </div>
      {followed ? (
        <ol className="mt-3 grid gap-3 sm:grid-cols-3">
          <Stage title="In the field" told={`${value(followed.value, followed.decimals)} ${followed.unit}`} when={`read ${ago(followed.value_at)}`} />
          <Stage
            title="Published"
            told={data ? `${value(data.value, followed.decimals)} ${followed.unit}` : "nothing since you look"}
            when={data ? `sent ${ago(data.at)}, of ${ago(data.timestamp)}${data.historical ? ", historical" : ""}` : "a value goes when it changes"}
          />
          <Stage
            title="At the broker"
            told={arrived ? `${value(arrived.metric.value, followed.decimals)} ${followed.unit}` : "nothing since you look"}
            when={arrived ? `arrived ${ago(arrived.at)}, of ${ago(arrived.metric.timestamp)}` : ""}
          />
        </ol>
      ) : (
        <p className="mt-1 text-sm text-soft">Its value in the field, as published, and as it arrived at the broker stand side by side.</p>
      )}
    </section>
  );
}

function Stage({ title, told, when }: { title: string; told: string; when: string }) {
  return (
    <li className="rounded-md border border-line p-2">
      <p className="text-xs text-soft">{title}</p>
      <p className="reading text-lg tabular-nums">{told}</p>
      <p className="text-xs text-faint">{when}</p>
    </li>
  );
}

/** The newest arrival of a metric of a device. */
function arrivedOf(topics: ReadonlyMap<string, TopicFacts>, device: string, point: string): { at: number; metric: TapMetric } | null {
  let newest: { at: number; metric: TapMetric } | null = null;
  for (const [topic, { metrics }] of topics) {
    const arrived = topic.endsWith(`/${device}`) ? metrics.get(point) : undefined;
    if (arrived && (newest === null || arrived.at >= newest.at)) newest = arrived;
  }
  return newest;
}
