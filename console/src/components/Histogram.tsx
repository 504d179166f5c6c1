import type { HistogramView } from "../api/client";

/** How long answers took: one bar for each span, and what half and most took in words. */
export function Histogram({ of, label }: { of: HistogramView; label: string }) {
  const total = of.bars.reduce((sum, bar) => sum + bar.count, 0);
  const most = Math.max(1, ...of.bars.map((bar) => bar.count));
  const first = of.bars.findIndex((bar) => bar.count > 0);
  const last = of.bars.findLastIndex((bar) => bar.count > 0);
  if (total === 0) return <p className="text-sm text-soft">Nothing yet.</p>;
  return (
    <figure aria-label={label} className="grid gap-1 text-sm">
      <figcaption className="text-soft">
        half within <b className="font-semibold text-ink tabular-nums">{of.p50_ms} ms</b>, 99 % within{" "}
        <b className="font-semibold text-ink tabular-nums">{of.p99_ms} ms</b>, longest{" "}
        <b className="font-semibold text-ink tabular-nums">{of.max_ms} ms</b>
      </figcaption>
      {of.bars.slice(Math.max(0, first - 1), last + 2).map((bar) => (
        <div key={bar.up_to_ms ?? "more"} className="grid grid-cols-[5.5rem_minmax(0,1fr)_4.5rem] items-center gap-2">
          <span className="text-right text-xs tabular-nums text-soft">{bar.up_to_ms == null ? "longer" : `≤ ${bar.up_to_ms} ms`}</span>
          <span className="h-3 rounded-xs bg-select">
            <span className="block h-full rounded-xs bg-act" style={{ width: `${(bar.count / most) * 100}%` }} />
          </span>
          <span className="text-right text-xs tabular-nums text-soft">{bar.count.toLocaleString("en")}</span>
        </div>
      ))}
    </figure>
  );
}
