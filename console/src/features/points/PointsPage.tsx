import { useQuery } from "@tanstack/react-query";
import { ToggleGroup } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { pointsQuery } from "../../api/queries";
import { intoGrid } from "../../components/focus";
import { Loading, Notice } from "../../components/Notice";
import { useSearch } from "../../components/search";
import { useLive, useServiceNow } from "../../live/live";
import { count } from "../../text/format";
import { PointDetail } from "./PointDetail";
import { PointTable } from "./PointTable";
import { type Filter, type QualityFilter, type SortKey, searchable, select, withReadings } from "./rows";

const QUALITIES: [QualityFilter, string][] = [
  ["all", "All"],
  ["good", "Good"],
  ["not-good", "Not good"],
];
const SORTS: SortKey[] = ["listed", "device", "name", "value", "quality", "age"];

/** Every value, live. Filter, order and selection are in the address, so that a link shows the same. */
export function PointsPage() {
  const [search, change] = useSearch();
  const { readings, status } = useLive();
  const now = useServiceNow();
  const points = useQuery(pointsQuery);
  // The address follows what is typed; it may lag behind a fast typist, so the text itself is kept here.
  const [typed, setTyped] = useState(() => search.get("q") ?? "");
  const filter = useMemo(() => ({ ...filterOf(search), text: typed }), [search, typed]);
  const selected = search.get("point");
  const text = useRef<HTMLInputElement>(null);

  // A new revision brings new points.
  const revisions = status?.gateways.map((gateway) => `${gateway.name} ${gateway.revision}`).join();
  const { refetch } = points;
  useEffect(() => {
    if (revisions !== undefined) void refetch();
  }, [revisions, refetch]);

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const isTyping = event.target instanceof HTMLInputElement || event.target instanceof HTMLSelectElement;
      if (event.key === "/" && !isTyping) {
        event.preventDefault();
        text.current?.focus();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);

  const sort = (key: SortKey) => {
    const turns = filter.sort === key && !filter.descending;
    change(filter.sort === key && filter.descending ? { sort: null, desc: null } : { sort: key, desc: turns ? "1" : null });
  };

  const all = useMemo(() => withReadings(points.data ?? [], readings), [points.data, readings]);
  const texts = useMemo(() => searchable(points.data ?? []), [points.data]);
  const rows = useMemo(() => select(all, filter, texts), [all, filter, texts]);
  const devices = useMemo(() => [...new Set((points.data ?? []).map((point) => point.device))], [points.data]);
  const open = selected === null ? undefined : all.find((point) => point.id === selected);
  const notGood = useMemo(() => all.filter((point) => point.quality !== "good").length, [all]);

  return (
    <main className="flex min-h-0 flex-1">
      <div className="flex min-w-0 flex-1 flex-col">
        <header className="flex flex-wrap items-center gap-x-4 gap-y-2 p-4 pb-3">
          <h1 className="text-lg font-semibold">Points</h1>
          <input
            ref={text}
            type="search"
            aria-label="Filter points"
            placeholder="Filter  ( / )"
            value={typed}
            onChange={(event) => {
              setTyped(event.target.value);
              change({ q: event.target.value });
            }}
            onKeyDown={intoGrid}
            className="h-9 max-md:h-11 w-52 rounded-md border border-line-strong bg-raised px-3 max-md:flex-1"
          />
          <select
            aria-label="Device"
            value={filter.device}
            onChange={(event) => change({ device: event.target.value })}
            className="h-9 max-md:h-11 rounded-md border border-line-strong bg-raised px-2"
          >
            <option value="">All devices</option>
            {devices.map((device) => (
              <option key={device}>{device}</option>
            ))}
          </select>
          <ToggleGroup.Root
            type="single"
            aria-label="Quality"
            value={filter.quality}
            onValueChange={(quality) => quality && change({ quality: quality === "all" ? null : quality })}
            className="flex overflow-hidden rounded-md border border-line-strong"
          >
            {QUALITIES.map(([quality, label]) => (
              <ToggleGroup.Item
                key={quality}
                value={quality}
                className="h-9 max-md:h-11 bg-surface px-3 text-soft hover:text-ink focus-visible:-outline-offset-2 data-[state=on]:bg-select data-[state=on]:font-semibold data-[state=on]:text-ink"
              >
                {label}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
          <p role="status" className="text-sm text-soft md:ml-auto">
            {rows.length === all.length ? count(all.length, "point") : `${rows.length.toLocaleString("en")} of ${count(all.length, "point")}`}
            {notGood > 0 ? `, ${notGood.toLocaleString("en")} not good` : ""}
          </p>
        </header>
        {points.isPending ? <Loading what="points" /> : null}
        {points.isError ? (
          <div className="px-4">
            <Notice tone="alarm" title={points.error.message} />
          </div>
        ) : null}
        {points.isSuccess && rows.length === 0 ? (
          <div className="px-4">
            <Notice title={all.length === 0 ? "No points are described" : "No point fits the filter"}>
              {all.length === 0 ? "Apply a description with devices and point lists." : "Widen the filter above."}
            </Notice>
          </div>
        ) : null}
        {rows.length > 0 ? (
          <PointTable rows={rows} now={now} selected={selected} onSelect={(id) => change({ point: id })} filter={filter} onSort={sort} />
        ) : null}
      </div>
      {open ? <PointDetail key={open.id} point={open} now={now} onClose={() => change({ point: null })} /> : null}
    </main>
  );
}

function filterOf(search: URLSearchParams): Omit<Filter, "text"> {
  const sort = SORTS.find((key) => key === search.get("sort")) ?? "listed";
  const quality = QUALITIES.find(([word]) => word === search.get("quality"))?.[0] ?? "all";
  return {
    device: search.get("device") ?? "",
    quality,
    sort,
    descending: search.get("desc") === "1",
  };
}
