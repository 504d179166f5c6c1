import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { PointView } from "../../api/client";
import { framesQuery } from "../../api/queries";
import { FrameLines } from "../../components/FrameLines";
import { Notice } from "../../components/Notice";
import { useLive } from "../../live/live";
import { clock, span } from "../../text/format";
import { useMay } from "../session/may";
import { originOf, type Stretch, whyOf } from "./why";

const HEAD = "mb-1 text-xs font-semibold tracking-widest text-faint uppercase";
const GO = "inline-flex min-h-9 items-center rounded-md border border-line-strong px-3 text-ink hover:bg-select max-md:min-h-11";
const query = (of: Record<string, string>) => new URLSearchParams(of).toString();

/** Why a value is not good, what to do, and the ways to where that is done. */
export function PointWhy({ point }: { point: PointView }) {
  const { status } = useLive();
  const mayEdit = useMay("engineer");
  const origin = originOf(point, status);
  const why = whyOf(point, origin);
  const { gateway, device, name } = point;
  return (
    <section aria-label="Why" className="grid gap-3">
      {why ? (
        <Notice tone={point.quality === "bad" ? "alarm" : "warn"} title={why.what}>
          {why.action}
        </Notice>
      ) : null}
      <p className="flex flex-wrap gap-2 text-sm">
        <Link className={GO} to={`/devices?${query({ gateway, open: device, tab: "points", point: name })}`}>
          {mayEdit ? "Edit its settings" : "Its settings"}
        </Link>
        <Link className={GO} to={`/devices?${query({ gateway, open: device, tab: "line" })}`}>
          Device {device}
        </Link>
        {origin.link ? (
          <Link className={GO} to={`/links?${query({ gateway, open: origin.link.name })}`}>
            Link {origin.link.name}
          </Link>
        ) : null}
      </p>
    </section>
  );
}

/** As many frames as show what was asked and answered last. */
const SHOWN = 8;

/** The last frames of its device: those about its address first, where they name it. */
export function LastFrames({ point }: { point: PointView }) {
  const { status } = useLive();
  const [isOpen, setOpen] = useState(false);
  const { link } = originOf(point, status);
  const frames = useQuery({ ...framesQuery(point.gateway, link?.name ?? "", point.device, false), enabled: isOpen && link !== undefined, refetchInterval: 3000 });
  if (!link) return null;
  const all = frames.data ?? [];
  const wrong = all.filter((frame) => frame.error);
  const shown = (point.quality === "bad" && wrong.length > 0 ? wrong : all).slice(-SHOWN);
  return (
    <details open={isOpen} onToggle={(event) => setOpen(event.currentTarget.open)} className="rounded-md border border-line p-3 text-sm">
      <summary className="cursor-pointer text-soft max-md:py-3">Last frames of {point.device}</summary>
      {frames.isError ? <Notice tone="alarm" title={frames.error.message} /> : null}
      {frames.isSuccess && shown.length === 0 ? <p className="mt-2 text-soft">None is recorded.</p> : null}
      <FrameLines frames={shown} label={`Last frames of ${point.device}`} />
      <Link className="mt-2 inline-flex items-center text-act underline max-md:min-h-11" to={`/frames?${query({ gateway: point.gateway, link: link.name, device: point.device })}`}>
        All frames
      </Link>
    </details>
  );
}

/** How its quality went lately. */
export function QualityHistory({ stretches, now }: { stretches: Stretch[]; now: number }) {
  if (stretches.length === 0) return null;
  return (
    <section aria-label="Quality lately">
      <h3 className={HEAD}>Quality lately</h3>
      <ol className="grid gap-0.5 text-sm">
        {stretches.slice(0, 5).map((stretch, at) => (
          <li key={stretch.from} className="flex justify-between gap-3">
            <span>{stretch.good ? "good" : "not good"}</span>
            <span className="tabular-nums text-soft">
              from {clock(stretch.from)} for {span((at === 0 ? now : stretch.to) - stretch.from)}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
