import { useEffect, useMemo, useRef, useState } from "react";
import { Button, CONTROL } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page } from "../../components/Page";
import { useSearch } from "../../components/search";
import { useLive, useServiceNow } from "../../live/live";
import { listen } from "../../live/stream";
import { clock, count, span, value } from "../../text/format";
import { Follow } from "./Follow";
import { rowsOf, type TapMessage, type TopicFacts, withMessage } from "./topics";

/** What arrives at the broker, and where does a value stop on its way? */
export function TapPage() {
  const [search, change] = useSearch();
  const { status } = useLive();
  const uplinks = (status?.gateways ?? []).flatMap((gateway) => gateway.uplinks.map((uplink) => ({ gateway: gateway.name, uplink: uplink.name, kind: uplink.kind })));
  const chosen = uplinks.find((known) => known.gateway === search.get("gateway") && known.uplink === search.get("uplink")) ?? uplinks[0];
  const filter = search.get("filter") ?? "";
  const [typed, setTyped] = useState(filter);
  const [isPaused, setPaused] = useState(false);
  if (!status || !chosen) {
    return (
      <Page title="Tap">{status ? <Notice title="No uplink runs">What arrives at a broker is shown as soon as one does.</Notice> : <Loading what="uplinks" />}</Page>
    );
  }
  const { gateway, uplink } = chosen;
  return (
    <Page
      title="Tap"
      beside={
        <form
          className="flex flex-1 flex-wrap items-center gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            change({ gateway, uplink, filter: typed || null });
          }}
        >
          <select
            aria-label="Uplink"
            value={`${gateway}/${uplink}`}
            onChange={(event) => {
              const to = uplinks.find((known) => `${known.gateway}/${known.uplink}` === event.target.value);
              if (to) change({ gateway: to.gateway, uplink: to.uplink, filter: null });
            }}
            className={`${CONTROL} max-w-56`}
          >
            {uplinks.map((known) => (
              <option key={`${known.gateway}/${known.uplink}`} value={`${known.gateway}/${known.uplink}`}>
                {known.uplink}
              </option>
            ))}
          </select>
          <input
            aria-label="Topics"
            placeholder="its own topics, or such as alderfen/#"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
            className={`${CONTROL} max-w-72`}
          />
          <Button quiet type="submit">
            Listen
          </Button>
          <Button quiet className="ml-auto" onClick={() => setPaused(!isPaused)}>
            {isPaused ? "Go on" : "Pause"}
          </Button>
        </form>
      }
    >
      <Listening key={`${gateway}/${uplink}/${filter}`} {...{ gateway, uplink, filter, isPaused }} hasMetrics={chosen.kind === "sparkplug"} />
    </Page>
  );
}

interface ListeningProps {
  gateway: string;
  uplink: string;
  filter: string;
  isPaused: boolean;
  /** Whether points are told as metrics, which can be followed. */
  hasMetrics: boolean;
}

function Listening({ gateway, uplink, filter, isPaused, hasMetrics }: ListeningProps) {
  const { topics, lost } = useTopics(gateway, uplink, filter, isPaused);
  const [search, change] = useSearch();
  const picked = topics.get(search.get("topic") ?? "");
  const rows = useMemo(() => rowsOf(topics.keys()), [topics]);
  return (
    <div className="grid gap-4">
      {hasMetrics ? <Follow gateway={gateway} uplink={uplink} topics={topics} /> : null}
      {lost ? <Notice tone="alarm" title={`The broker cannot be listened to: ${lost}`} /> : null}
      <div className="grid items-start gap-4 lg:grid-cols-[minmax(20rem,2fr)_minmax(0,3fr)]">
        <section aria-label="Topics" className="rounded-lg border border-line bg-surface">
          <h2 className="border-b border-line px-3 py-2 text-sm text-soft">{count(topics.size, "topic")}</h2>
          {topics.size === 0 ? <p className="p-3 text-sm text-soft">Nothing has arrived yet.</p> : null}
          <ul className="max-h-[60vh] overflow-auto py-1 text-sm">
            {rows.map((row) => {
              const facts = row.topic === null ? undefined : topics.get(row.topic);
              const pad = { paddingLeft: `${0.75 + row.depth}rem` };
              return (
                <li key={row.path}>
                  {facts ? (
                    <button
                      type="button"
                      aria-pressed={facts === picked}
                      onClick={() => change({ topic: row.topic })}
                      style={pad}
                      className="flex w-full gap-3 py-0.5 pr-3 text-left hover:text-act aria-pressed:bg-select"
                    >
                      <span className="min-w-0 flex-1 wrap-anywhere">{row.label}</span>
                      <Arrived facts={facts} />
                    </button>
                  ) : (
                    <span style={pad} className="block py-0.5 wrap-anywhere text-soft">
                      {row.label}
                    </span>
                  )}
                </li>
              );
            })}
          </ul>
        </section>
        {picked ? <Message facts={picked} /> : <p className="p-3 text-sm text-soft">Choose a topic to see its last message.</p>}
      </div>
    </div>
  );
}

/** How much arrives on a topic, and when something did last. */
function Arrived({ facts }: { facts: TopicFacts }) {
  const now = useServiceNow();
  const minutes = (facts.last.at - facts.since) / 60_000;
  const rate = facts.count > 1 && minutes > 0 ? (facts.count - 1) / minutes : null;
  return (
    <span className="shrink-0 text-xs text-faint tabular-nums">
      {facts.count}×{rate === null ? "" : ` · ${rate.toFixed(rate < 10 ? 1 : 0)}/min`} · {facts.last.bytes} B · {span(Math.max(0, now - facts.last.at))} ago
    </span>
  );
}

function Message({ facts: { last } }: { facts: TopicFacts }) {
  return (
    <section aria-label="Last message" className="min-w-0 rounded-lg border border-line bg-surface p-3">
      <h2 className="font-semibold wrap-anywhere">{last.topic}</h2>
      <p className="mb-2 text-sm text-soft">
        {clock(last.at)} · {last.bytes} bytes
        {last.seq == null ? "" : ` · seq ${last.seq}`}
        {last.retained ? " · kept by the broker" : ""}
      </p>
      {last.error ? <p className="text-sm text-alarm">{last.error}</p> : null}
      {last.text == null ? null : <pre className="max-h-[55vh] overflow-auto text-sm whitespace-pre-wrap wrap-anywhere">{pretty(last.text)}</pre>}
      {last.metrics.length > 0 ? (
        <div className="max-h-[55vh] overflow-auto">
          <table className="w-full text-left text-sm">
            <thead>
              <tr className="text-xs text-soft">
                <th className="py-1 pr-3 font-normal">Metric</th>
                <th className="pr-3 text-right font-normal">Value</th>
                <th className="pr-3 font-normal">Type</th>
                <th className="text-right font-normal">Its time</th>
              </tr>
            </thead>
            <tbody>
              {last.metrics.slice(0, 500).map((metric, at) => (
                <tr key={`${metric.name}-${at}`} className="border-t border-line">
                  <th className="py-1 pr-3 font-medium wrap-anywhere">{metric.name}</th>
                  <td className="pr-3 text-right tabular-nums wrap-anywhere">
                    {value(metric.value)} {metric.unit}
                  </td>
                  <td className="pr-3 text-soft">
                    {metric.data_type}
                    {metric.historical ? " · historical" : ""}
                    {metric.quality === 0 ? " · bad" : metric.quality === 500 ? " · stale" : ""}
                  </td>
                  <td className="text-right text-soft tabular-nums">{metric.timestamp == null ? "" : clock(metric.timestamp)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
    </section>
  );
}

/** JSON with its own lines; other text as it is. */
function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

/** What arrives, by topic; drawn anew at most four times a second. */
function useTopics(gateway: string, uplink: string, filter: string, isPaused: boolean) {
  const [topics, setTopics] = useState<ReadonlyMap<string, TopicFacts>>(new Map());
  const [lost, setLost] = useState<string | null>(null);
  const paused = useRef(isPaused);
  paused.current = isPaused;
  useEffect(() => {
    let known: ReadonlyMap<string, TopicFacts> = new Map();
    let isChanged = false;
    const query = new URLSearchParams({ gateway, uplink, ...(filter ? { filter } : {}) });
    const end = listen(`/api/v1/tap?${query}`, {
      message: (data) => {
        const message: TapMessage = JSON.parse(data);
        known = withMessage(known, message);
        isChanged = true;
      },
      lost: setLost,
      open: () => setLost(null),
    });
    const draw = setInterval(() => {
      if (isChanged && !paused.current) setTopics(known);
      isChanged = isChanged && paused.current;
    }, 250);
    return () => {
      end();
      clearInterval(draw);
    };
  }, [gateway, uplink, filter]);
  return { topics, lost };
}
