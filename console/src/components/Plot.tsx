import { useEffect, useRef } from "react";
import uPlot from "uplot";
import { clock } from "../text/format";

interface PlotProps {
  /** What is drawn, for those who cannot see it. */
  label: string;
  unit: string;
  /** Seconds since 1970 UTC. */
  times: number[];
  values: (number | null)[];
  /** A second line, such as what went out beside what came in. */
  others?: (number | null)[];
}

const HEIGHT = 160;

/** A small line over the last minutes. Gaps are gaps: a bad reading is not joined over. */
export function Plot({ label, unit, times, values, others }: PlotProps) {
  const hasOthers = others !== undefined;
  const place = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);

  useEffect(() => {
    const element = place.current;
    if (!element) return;
    const colour = (name: string) => () => getComputedStyle(element).getPropertyValue(name);
    const axis = {
      stroke: colour("--ink-soft"),
      grid: { stroke: colour("--line"), width: 1 },
      ticks: { show: false },
      font: "12px Inter Tight Variable",
    };
    const options: uPlot.Options = {
      width: element.clientWidth,
      height: HEIGHT,
      cursor: { y: false },
      legend: { show: false },
      axes: [
        { ...axis, space: 64, values: (_, ticks) => ticks.map((tick) => clock(tick * 1000)) },
        { ...axis, size: 56, space: 26, values: (_, ticks) => ticks.map((tick) => `${tick}`) },
      ],
      series: [{}, { label: unit, stroke: colour("--act"), width: 1.5, spanGaps: false, points: { show: false } }],
    };
    if (hasOthers) {
      options.series.push({ label: unit, stroke: colour("--ink-soft"), width: 1.5, dash: [4, 3], spanGaps: false, points: { show: false } });
    }
    const drawn = new uPlot(options, hasOthers ? [[], [], []] : [[], []], element);
    plot.current = drawn;
    const watch = new ResizeObserver(() => drawn.setSize({ width: element.clientWidth, height: HEIGHT }));
    watch.observe(element);
    return () => {
      watch.disconnect();
      drawn.destroy();
      plot.current = null;
    };
  }, [unit, hasOthers]);

  useEffect(() => {
    plot.current?.setData(others ? [times, values, others] : [times, values]);
  }, [times, values, others]);

  return <div ref={place} role="img" aria-label={label} className="w-full" />;
}
