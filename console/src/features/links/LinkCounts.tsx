import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type CountsView, dataOf, type LinkStatistics } from "../../api/client";
import { statisticsQuery } from "../../api/queries";
import { Histogram } from "../../components/Histogram";
import { Button } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { date } from "../../text/format";
import { useMay } from "../session/may";

export const framesOf = (gateway: string, link: string, device?: string) =>
  `/frames?${new URLSearchParams({ gateway, link, ...(device ? { device } : {}) })}`;

/** What a running link counted: all devices together, how busy the line is, and how well each rate is kept. */
export function LinkCounts({ gateway, link }: { gateway: string; link: string }) {
  const statistics = useQuery(statisticsQuery(gateway, link));
  if (statistics.isPending) return <Loading what="what was counted" />;
  if (statistics.isError && !statistics.data) return <Notice title={statistics.error.message} />;
  const { data } = statistics;
  return (
    <section aria-label="What the link counted" className="grid gap-4">
      <Counts of={data} lately={data.lately} minutes={data.lately_minutes} since={data.since} />
      <p className="text-sm text-soft">
        {data.bus_load == null ? null : (
          <>
            The line is busy <b className="font-semibold text-ink tabular-nums">{(data.bus_load * 100).toFixed(1)} %</b> of the time.{" "}
          </>
        )}
        {data.bytes_sent.toLocaleString("en")} bytes sent, {data.bytes_received.toLocaleString("en")} received. {dropped(data)}{" "}
        <Link to={framesOf(gateway, link)} className="text-act underline">
          Frames
        </Link>
      </p>
      <Anew gateway={gateway} link={link} />
      <Rates rates={data.rates} />
      <div>
        <h3 className="mb-1 text-sm font-semibold">Answer times</h3>
        <Histogram of={data.answer_times} label="Answer times of the link" />
      </div>
    </section>
  );
}

/** What came in that nobody had asked for. */
function dropped(of: LinkStatistics) {
  const kinds: [number, string, string][] = [
    [of.late, "answer that came late", "answers that came late"],
    [of.of_others, "answer of another device", "answers of other devices"],
    [of.unmatched, "frame that answers nothing", "frames that answer nothing"],
    [of.noise_bytes, "byte of noise", "bytes of noise"],
  ];
  const told = kinds.filter(([number]) => number > 0).map(([number, one, many]) => `${number.toLocaleString("en")} ${number === 1 ? one : many}`);
  return told.length > 0 ? `Dropped: ${told.join(", ")}.` : "Nothing was dropped.";
}

/** Lets the link count from nothing on again. */
function Anew({ gateway, link }: { gateway: string; link: string }) {
  const queries = useQueryClient();
  const may = useMay("engineer");
  const anew = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/links/{link}/statistics/reset", { params: { path: { gateway, link } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: statisticsQuery(gateway, link).queryKey }),
  });
  if (!may) return null;
  return (
    <div>
      <Button quiet onClick={() => anew.mutate()} disabled={anew.isPending}>
        Count anew
      </Button>
      {anew.isError ? <Notice title={anew.error.message} /> : null}
    </div>
  );
}

interface CountsProps {
  of: CountsView;
  lately: CountsView;
  minutes: number;
  since: number;
}

/** How many requests became what: since it is counted, and in the last minutes. */
export function Counts({ of, lately, minutes, since }: CountsProps) {
  const facts: [string, (counts: CountsView) => number][] = [
    ["requests", (counts) => counts.requests],
    ["answers", (counts) => counts.answers],
    ["timeouts", (counts) => counts.timeouts],
    ["refusals", (counts) => counts.refusals.reduce((sum, one) => sum + one.count, 0)],
    ["garbled", (counts) => counts.garbled],
    ["broken", (counts) => counts.malformed],
  ];
  const spans: [string, CountsView][] = [
    [`since ${date(since)}`, of],
    [`last ${minutes} min`, lately],
  ];
  return (
    <div className="grid gap-2">
      <table className="w-full max-w-xl text-sm">
        <caption className="sr-only">How many requests became what</caption>
        <thead>
          <tr className="text-xs text-soft">
            <th className="sr-only">What became of it</th>
            {facts.map(([name]) => (
              <th key={name} className="pl-2 text-right font-normal">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {spans.map(([name, counts]) => (
            <tr key={name} className="border-t border-line tabular-nums">
              <th className="py-1 text-left text-xs font-normal text-soft">{name}</th>
              {facts.map(([fact, number]) => (
                <td key={fact} className="pl-2 text-right font-semibold">
                  {number(counts).toLocaleString("en")}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {of.refusals.map((one) => (
        <p key={one.meaning} className="text-sm text-soft">
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
