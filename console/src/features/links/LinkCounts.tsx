import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { CountsView, LinkStatistics } from "../../api/client";
import { statisticsQuery } from "../../api/queries";
import { Histogram } from "../../components/Histogram";
import { Loading, Notice } from "../../components/Notice";
import { count } from "../../text/format";

export const framesOf = (gateway: string, link: string, device?: string) =>
  `/frames?${new URLSearchParams({ gateway, link, ...(device ? { device } : {}) })}`;

/** What a running link counted: all devices together, how busy the line is, and how well each rate is kept. */
export function LinkCounts({ gateway, link }: { gateway: string; link: string }) {
  const statistics = useQuery(statisticsQuery(gateway, link));
  if (statistics.isPending) return <Loading what="what was counted" />;
  if (statistics.isError) return <Notice title={statistics.error.message} />;
  const { data } = statistics;
  return (
    <section aria-label="What the link counted" className="grid gap-4">
      <Counts of={data} />
      <p className="text-sm text-soft">
        {data.bus_load == null ? null : (
          <>
            The line is busy <b className="font-semibold text-ink tabular-nums">{(data.bus_load * 100).toFixed(1)} %</b> of the time.{" "}
          </>
        )}
        {data.bytes_sent.toLocaleString("en")} bytes sent, {data.bytes_received.toLocaleString("en")} received,{" "}
        {count(data.unmatched, "frame")} dropped as late or strange.{" "}
        <Link to={framesOf(gateway, link)} className="text-act underline">
          Frames
        </Link>
      </p>
      <Rates rates={data.rates} />
      <div>
        <h3 className="mb-1 text-sm font-semibold">Answer times</h3>
        <Histogram of={data.answer_times} label="Answer times of the link" />
      </div>
    </section>
  );
}

/** How many requests became what. */
export function Counts({ of }: { of: CountsView }) {
  const refused = of.exceptions.reduce((sum, one) => sum + one.count, 0);
  const facts: [string, number][] = [
    ["requests", of.requests],
    ["answers", of.answers],
    ["timeouts", of.timeouts],
    ["refusals", refused],
    ["broken", of.malformed],
  ];
  return (
    <div className="grid gap-2">
      <dl className="flex flex-wrap gap-x-6 gap-y-1">
        {facts.map(([name, number]) => (
          <div key={name}>
            <dd className="text-lg font-semibold tabular-nums">{number.toLocaleString("en")}</dd>
            <dt className="text-xs text-soft">{name}</dt>
          </div>
        ))}
      </dl>
      {of.exceptions.map((one) => (
        <p key={one.code} className="text-sm text-soft">
          {one.count.toLocaleString("en")} × {one.meaning}
        </p>
      ))}
    </div>
  );
}

function Rates({ rates }: { rates: LinkStatistics["rates"] }) {
  return (
    <table className="w-full max-w-md text-sm">
      <caption className="sr-only">How well each rate is kept</caption>
      <thead>
        <tr className="text-xs text-soft">
          <th className="text-right font-normal">asked every</th>
          <th className="text-right font-normal">achieved</th>
          <th className="text-right font-normal">polls</th>
          <th className="text-right font-normal">over a period late</th>
        </tr>
      </thead>
      <tbody>
        {rates.map((rate) => (
          <tr key={rate.asked_ms} className="border-t border-line tabular-nums">
            <td className="py-1 text-right">{rate.asked_ms} ms</td>
            <td className="text-right">{rate.achieved_ms == null ? "–" : `${rate.achieved_ms} ms`}</td>
            <td className="text-right">{rate.polls.toLocaleString("en")}</td>
            <td className={`text-right ${rate.missed > 0 ? "text-warn" : ""}`}>{rate.missed.toLocaleString("en")}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
