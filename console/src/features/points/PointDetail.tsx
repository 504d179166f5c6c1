import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import type { PointView } from "../../api/client";
import { pointQuery } from "../../api/queries";
import { useReturnFocus } from "../../components/focus";
import { Button } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Plot } from "../../components/Plot";
import { useReadings } from "../../live/live";
import { clock, raw, span, value } from "../../text/format";
import { AskNow } from "./AskNow";
import { Command } from "./Command";
import { LastFrames, PointWhy, QualityHistory } from "./PointWhy";
import { Quality } from "./Quality";
import { withReading } from "./rows";
import { stretchesOf } from "./why";

interface Moment {
  at: number;
  value: number | null;
  good: boolean;
}

interface PointDetailProps {
  /** `GATEWAY/DEVICE/POINT` */
  id: string;
  /** The revisions that run: in another one it may be another point. */
  revisions: string;
  now: number;
  onClose: () => void;
}

/** Is this value right? One point with all that is known of it, and its last minutes. */
export function PointDetail({ id, revisions, now, onClose }: PointDetailProps) {
  const detail = useQuery(pointQuery(id, revisions));
  const readings = useReadings([id]);
  useReturnFocus();
  return (
    <aside
      aria-labelledby="point-heading"
      onKeyDown={(event) => event.key === "Escape" && onClose()}
      className="flex w-full flex-col gap-4 overflow-auto border-line bg-surface p-4 max-md:fixed max-md:inset-0 max-md:z-20 md:w-96 md:border-l"
    >
      {detail.data ? (
        <Known point={withReading(detail.data, readings)} recent={detail.data.recent} {...{ now, onClose }} />
      ) : (
        <>
          <header className="flex items-start justify-between gap-2">
            <h2 id="point-heading" className="min-w-0 truncate text-lg font-semibold">
              {id.split("/").slice(2).join("/")}
            </h2>
            <Button quiet onClick={onClose}>
              Close
            </Button>
          </header>
          {detail.isError ? <Notice tone="alarm" title={detail.error.message} /> : <Loading what="the point" />}
        </>
      )}
    </aside>
  );
}

type Recent = readonly { at: number; value?: number | null; good: boolean }[];

function Known({ point, recent, now, onClose }: { point: PointView; recent: Recent; now: number; onClose: () => void }) {
  const moments = useMoments(point, recent);
  const times = useMemo(() => moments.map((moment) => moment.at / 1000), [moments]);
  const values = useMemo(() => moments.map((moment) => moment.value), [moments]);
  const stretches = useMemo(() => stretchesOf(moments), [moments]);
  const facts: [string, string][] = [
    ["Raw value", raw(point.raw)],
    ["Address", point.address],
    ["Type", point.type],
    ["Sampled", point.rate],
    ["Reported", point.report],
    ["Limits", limits(point)],
    ["Commands", point.writable ? "accepted" : "not accepted"],
    ["Source time", point.source_at > 0 ? clock(point.source_at) : "–"],
    ["Value read", point.value_at > 0 ? `${span(now - point.value_at)} ago` : "never"],
    ["Last heard", point.gateway_at > 0 ? `${span(now - point.gateway_at)} ago` : "never"],
  ];
  const isDrawn = values.some((moment) => moment !== null);
  return (
    <>
      <header className="flex items-start justify-between gap-2">
        <div className="min-w-0">
          <p className="text-sm text-soft">{point.device}</p>
          <h2 id="point-heading" className="truncate text-lg font-semibold">
            {point.name}
          </h2>
          <p className="text-sm text-soft">{point.title}</p>
        </div>
        <Button quiet onClick={onClose}>
          Close
        </Button>
      </header>
      <div>
        <p className="reading text-xl font-semibold tabular-nums">
          {value(point.value, point.decimals, point.type)} <span className="text-base font-normal text-soft">{point.unit}</span>
        </p>
        <p className="text-sm">
          <Quality reading={point} />
          {point.quality === "bad" && point.value !== null ? <span className="text-soft"> · last known value</span> : null}
        </p>
      </div>
      <PointWhy point={point} />
      <Command key={point.id} point={point} />
      <AskNow key={`${point.id} now`} point={point} />
      <LastFrames key={`${point.id} frames`} point={point} />
      <section aria-label="Last minutes">
        <h3 className="mb-1 text-xs font-semibold tracking-widest text-faint uppercase">Last minutes</h3>
        {isDrawn ? (
          <Plot label={`${point.name} over the last minutes`} unit={point.unit} times={times} values={values} />
        ) : (
          <Notice title="Nothing to draw">No number was read lately.</Notice>
        )}
      </section>
      <QualityHistory stretches={stretches} now={now} />
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
        {facts.map(([name, text]) => (
          <div key={name} className="contents">
            <dt className="text-soft">{name}</dt>
            <dd className="text-right font-mono text-xs leading-5">{text}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

function limits(point: PointView): string {
  const { low, high, unit } = point;
  if (low == null && high == null) return "none";
  return `${low ?? "…"} to ${high ?? "…"} ${unit}`;
}

/** What the service remembers, and what the stream has told since. */
function useMoments(point: PointView, recent: Recent): Moment[] {
  const [since, setSince] = useState<Moment[]>([]);
  useEffect(() => setSince([]), [point.id]);
  useEffect(() => {
    const isBad = point.quality === "bad";
    const number = typeof point.value === "boolean" ? Number(point.value) : point.value;
    const moment = { at: point.gateway_at, value: isBad || typeof number !== "number" ? null : number, good: point.quality === "good" };
    setSince((known) => (known.at(-1)?.at === moment.at ? known : [...known.slice(-2000), moment]));
  }, [point]);
  return useMemo(() => {
    const remembered = recent.map(({ at, value, good }) => ({ at, value: value ?? null, good }));
    const last = remembered.at(-1)?.at ?? 0;
    return [...remembered, ...since.filter((moment) => moment.at > last)];
  }, [recent, since]);
}
