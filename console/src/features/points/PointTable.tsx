import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useEffect, useRef } from "react";
import type { PointView } from "../../api/client";
import { Address } from "../../components/Address";
import { Middle } from "../../components/Middle";
import { raw, span, value } from "../../text/format";
import { Quality } from "./Quality";
import type { Filter, SortKey } from "./rows";

interface PointTableProps {
  rows: PointView[];
  now: number;
  selected: string | null;
  onSelect: (id: string) => void;
  filter: Filter;
  onSort: (key: SortKey) => void;
}

const ROW = 32;
const HEADING = 32;
/** Raw value and address give way when the table shares the page with a point's detail, which shows them. */
const GRID =
  "grid grid-cols-[minmax(6rem,1fr)_minmax(9rem,1.4fr)_6rem_4rem_minmax(8rem,1.2fr)_4.5rem_7rem_minmax(7rem,1.2fr)] @max-4xl:grid-cols-[minmax(6rem,1fr)_minmax(9rem,1.4fr)_6rem_4rem_minmax(8rem,1.6fr)_4.5rem] gap-x-3 px-4 items-center";
/** On a phone: name over device, value over quality. */
const NARROW = "max-md:grid-cols-[minmax(0,1fr)_auto]! max-md:gap-y-0";
const COLUMNS: { key: SortKey | null; title: string; right?: boolean; yields?: boolean }[] = [
  { key: "device", title: "Device" },
  { key: "name", title: "Name" },
  { key: "value", title: "Value", right: true },
  { key: null, title: "Unit" },
  { key: "quality", title: "Quality" },
  { key: "age", title: "Age", right: true },
  { key: null, title: "Raw", right: true, yields: true },
  { key: null, title: "Address", yields: true },
];

/** All points, live. Only the rows in view exist, so that fifty thousand scroll like fifty. */
export function PointTable({ rows, now, selected, onSelect, filter, onSort }: PointTableProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const isNarrow = window.matchMedia("(max-width: 767px)").matches;
  const rowHeight = isNarrow ? 48 : ROW;
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 12,
    scrollMargin: isNarrow ? 0 : HEADING,
  });
  const at = rows.findIndex((row) => row.id === selected);
  useEffect(() => {
    if (at >= 0) virtual.scrollToIndex(at);
    // Only a new selection scrolls; rows that move under it do not.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [selected]);

  const steps: Record<string, (at: number) => number> = {
    ArrowDown: (from) => from + 1,
    ArrowUp: (from) => from - 1,
    PageDown: (from) => from + 15,
    PageUp: (from) => from - 15,
    Home: () => 0,
    End: () => rows.length - 1,
  };
  const onKey = (event: KeyboardEvent) => {
    const step = steps[event.key];
    if (!step || rows.length === 0) return;
    event.preventDefault();
    const next = rows[Math.min(Math.max(at < 0 && event.key === "ArrowUp" ? 0 : step(at), 0), rows.length - 1)];
    if (next) onSelect(next.id);
  };

  return (
    <div
      ref={scroller}
      role="grid"
      aria-label="Points"
      aria-rowcount={rows.length + 1}
      aria-activedescendant={selected ? rowId(selected) : undefined}
      tabIndex={0}
      onKeyDown={onKey}
      className="@container min-h-0 flex-1 overflow-auto text-sm focus-visible:-outline-offset-2"
    >
      <div role="row" aria-rowindex={1} className={`${GRID} ${NARROW} sticky top-0 z-10 h-8 border-b border-line-strong bg-ground max-md:hidden`}>
        {COLUMNS.map((column) => (
          <Heading key={column.title} column={column} filter={filter} onSort={onSort} />
        ))}
      </div>
      <div role="presentation" className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index];
          if (!row) return null;
          return (
            <div
              key={row.id}
              id={rowId(row.id)}
              role="row"
              aria-rowindex={item.index + 2}
              aria-selected={row.id === selected}
              onClick={() => onSelect(row.id)}
              className={`${GRID} ${NARROW} absolute inset-x-0 cursor-pointer border-b border-line hover:bg-select aria-selected:bg-select`}
              style={{ height: rowHeight, transform: `translateY(${item.start - virtual.options.scrollMargin}px)` }}
            >
              <Cell className="text-soft max-md:order-3 max-md:text-xs">
                <span className="flex min-w-0 gap-2">
                  <Middle text={row.device} />
                  {isNarrow ? <span className="shrink-0 tabular-nums">{row.value_at > 0 ? span(now - row.value_at) : "never read"}</span> : null}
                </span>
              </Cell>
              <Cell className="font-medium max-md:order-1">
                <Middle text={row.name} />
              </Cell>
              <Cell className={`reading text-right tabular-nums max-md:order-2 ${row.quality === "bad" ? "text-faint" : ""}`}>
                {value(row.value, row.decimals, row.type)}
                <span className="text-soft md:hidden"> {row.unit}</span>
              </Cell>
              <Cell className="text-soft max-md:hidden">{row.unit}</Cell>
              <Cell className="max-md:order-4 max-md:text-right max-md:text-xs">
                <Quality reading={row} />
              </Cell>
              <Cell className="text-right tabular-nums text-soft max-md:hidden">
                {row.value_at > 0 ? span(now - row.value_at) : "–"}
              </Cell>
              <Cell className="text-right font-mono text-xs text-soft @max-4xl:hidden">{raw(row.raw)}</Cell>
              <Cell className="@max-4xl:hidden">
                <Address>{row.address}</Address>
              </Cell>
            </div>
          );
        })}
      </div>
    </div>
  );
}

function rowId(id: string): string {
  return `point-${id}`;
}

function Cell({ className, children }: { className: string; children: ReactNode }) {
  return (
    <div role="gridcell" className={`truncate ${className}`}>
      {children}
    </div>
  );
}

interface HeadingProps {
  column: (typeof COLUMNS)[number];
  filter: Filter;
  onSort: (key: SortKey) => void;
}

function Heading({ column, filter, onSort }: HeadingProps) {
  const { key } = column;
  const isSorted = key !== null && filter.sort === key;
  const order = filter.descending ? "descending" : "ascending";
  return (
    <div role="columnheader" aria-sort={isSorted ? order : "none"} className={`text-xs text-soft ${column.right ? "text-right" : ""} ${column.yields ? "@max-4xl:hidden" : ""}`}>
      {key === null ? (
        column.title
      ) : (
        <button type="button" onClick={() => onSort(key)} className="font-semibold hover:text-ink">
          {column.title}
          <span aria-hidden="true">{isSorted ? (filter.descending ? " ↓" : " ↑") : ""}</span>
        </button>
      )}
    </div>
  );
}
