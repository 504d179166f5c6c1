import { ToggleGroup } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { intoGrid } from "../../components/focus";
import { Loading, Notice } from "../../components/Notice";
import { useSearch } from "../../components/search";
import { useLive, useServiceNow } from "../../live/live";
import { count } from "../../text/format";
import { PointDetail } from "./PointDetail";
import { PointTable } from "./PointTable";
import { type Filter, type QualityFilter, type SortKey, useCounts } from "./rows";

const QUALITIES: [QualityFilter, string][] = [
  ["all", "All"],
  ["good", "Good"],
  ["not-good", "Not good"],
];
const SORTS: SortKey[] = ["listed", "device", "name", "value", "quality", "age"];

/** Every value, live. Filter, order and selection are in the address, so that a link shows the same. */
export function PointsPage() {
  const [search, change] = useSearch();
  const { status } = useLive();
  const now = useServiceNow();
  // The address follows what is typed; it may lag behind a fast typist, so the text itself is kept here.
  const [typed, setTyped] = useState(() => search.get("q") ?? "");
  const settled = useSettled(typed);
  const { device, quality, sort: by, descending } = filterOf(search);
  const filter = useMemo(() => ({ device, quality, sort: by, descending, text: settled }), [device, quality, by, descending, settled]);
  const selected = search.get("point");
  const text = useRef<HTMLInputElement>(null);

  // A new revision brings new points.
  const revisions = status?.gateways.map((gateway) => `${gateway.name} ${gateway.revision}`).join() ?? "";
  const points = useCounts(filter, revisions);

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

  const { total, all, not_good: notGood } = points.data ?? { total: 0, all: 0, not_good: 0 };
  const devices = [...new Set(status?.gateways.flatMap((gateway) => gateway.links.flatMap((link) => link.devices.map((device) => device.name))))];
  const onSelect = (id: string) => change({ point: id });

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
            {total === all ? count(all, "point") : `${total.toLocaleString("en")} of ${count(all, "point")}`}
            {notGood > 0 ? `, ${notGood.toLocaleString("en")} not good` : ""}
          </p>
        </header>
        {points.isPending ? <Loading what="points" /> : null}
        {points.isError ? (
          <div className="px-4">
            <Notice tone="alarm" title={points.error.message} />
          </div>
        ) : null}
        {points.isSuccess && total === 0 ? (
          <div className="px-4">
            <Notice title={all === 0 ? "No points are described" : "No point fits the filter"}>
              {all === 0 ? "Apply a description with devices and point lists." : "Widen the filter above."}
            </Notice>
          </div>
        ) : null}
        {total > 0 ? (
          <PointTable {...{ total, revisions, now, selected, onSelect, filter }} onSort={sort} />
        ) : null}
      </div>
      {selected ? <PointDetail key={selected} id={selected} {...{ revisions, now }} onClose={() => change({ point: null })} /> : null}
    </main>
  );
}

/** What was typed, once nobody has typed for a moment. */
function useSettled(text: string): string {
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), SETTLING);
    return () => clearTimeout(timer);
  }, [text]);
  return settled;
}

const SETTLING = 150;

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
