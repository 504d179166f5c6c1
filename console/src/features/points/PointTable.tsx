import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from "react";
import type { PointView } from "../../api/client";
import { Address } from "../../components/Address";
import { Middle } from "../../components/Middle";
import { usePlaces } from "../../components/recycle";
import { useReadings } from "../../live/live";
import { raw, span, value } from "../../text/format";
import { Quality } from "./Quality";
import { type Filter, type SortKey, usePlace, useRows, withReading } from "./rows";

interface PointTableProps {
  /** How many rows there are. */
  total: number;
  /** The revisions that run: another one has other points. */
  revisions: string;
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

/** Rows beyond those in view that are there already when somebody scrolls. */
const BEYOND = 4;

/** All points, live. Only the rows in view exist, here and on the line, so that a million scroll like fifty. */
export function PointTable({ total, revisions, now, selected, onSelect, filter, onSort }: PointTableProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const isNarrow = window.matchMedia("(max-width: 767px)").matches;
  const rowHeight = isNarrow ? 48 : ROW;
  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: BEYOND,
    useFlushSync: false,
    scrollMargin: isNarrow ? 0 : HEADING,
  });
  const items = virtual.getVirtualItems();
  const [first, last] = [items[0]?.index ?? 0, items.at(-1)?.index ?? 0];
  const rowAt = useRows(filter, revisions, first, last);
  const shown = items.flatMap((item) => rowAt(item.index)?.id ?? []);
  const readings = useReadings(shown);
  /** The row that was chosen last; the one that keys go on from. */
  const [chosen, setChosen] = useState<number | null>(null);
  /** A row that is chosen as soon as it is known. */
  const [wanted, setWanted] = useState<number | null>(null);
  const seen = items.find((item) => rowAt(item.index)?.id === selected)?.index;
  // One that was chosen elsewhere, or in another order, is looked for once, and shown.
  useEffect(() => setChosen(null), [filter, revisions]);
  const isElsewhere = selected !== null && seen === undefined && chosen === null && wanted === null;
  const found = usePlace(filter, revisions, isElsewhere ? selected : null);
  /** A key that was pressed before it was found. */
  const [later, setLater] = useState<string | null>(null);
  useEffect(() => {
    if (found === undefined) return;
    setChosen(found ?? -1);
    setLater(null);
    if (later !== null) go(later, found ?? -1);
    else if (found !== null) virtual.scrollToIndex(found, { align: "center" });
    // The virtual list is another one at every turn.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [found]);
  const coming = wanted === null ? undefined : rowAt(wanted)?.id;
  useEffect(() => {
    if (coming === undefined) return;
    setChosen(wanted);
    setWanted(null);
    if (coming !== selected) onSelect(coming);
  }, [coming, wanted, selected, onSelect]);
  const at = seen ?? wanted ?? chosen ?? -1;

  const steps: Record<string, (at: number) => number> = {
    ArrowDown: (from) => from + 1,
    ArrowUp: (from) => from - 1,
    PageDown: (from) => from + 15,
    PageUp: (from) => from - 15,
    Home: () => 0,
    End: () => total - 1,
  };
  const onChoose = (row: number, id: string) => {
    setChosen(row);
    setWanted(null);
    onSelect(id);
  };
  const places = usePlaces(items.length);
  const onKey = (event: KeyboardEvent) => {
    if (!steps[event.key] || total === 0) return;
    event.preventDefault();
    if (isElsewhere && found === undefined) setLater(event.key);
    else go(event.key, at);
  };
  const go = (key: string, from: number) => {
    const next = Math.min(Math.max(from < 0 && key === "ArrowUp" ? 0 : (steps[key]?.(from) ?? 0), 0), total - 1);
    virtual.scrollToIndex(next);
    const row = rowAt(next);
    // Rows that come into view by the next key are known later.
    setWanted(row ? null : next);
    if (!row) return;
    setChosen(next);
    onSelect(row.id);
  };

  return (
    <div
      ref={scroller}
      role="grid"
      aria-label="Points"
      aria-rowcount={total + 1}
      aria-activedescendant={selected && seen !== undefined ? rowId(selected) : undefined}
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
        {items.map((item) => {
          const row = rowAt(item.index);
          return (
            <Row
              key={item.index % places}
              at={item.index}
              row={row && withReading(row, readings)}
              isSelected={row !== undefined && row.id === selected}
              height={rowHeight}
              top={item.start - virtual.options.scrollMargin}
              now={now}
              {...{ isNarrow, onChoose }}
            />
          );
        })}
      </div>
    </div>
  );
}

interface RowProps {
  at: number;
  /** Not known yet while it is on its way. */
  row: PointView | undefined;
  isSelected: boolean;
  isNarrow: boolean;
  height: number;
  top: number;
  now: number;
  onChoose: (at: number, id: string) => void;
}

function Row({ at, row, isSelected, isNarrow, height, top, now, onChoose }: RowProps) {
  const place = { height, transform: `translateY(${top}px)` };
  const age = row && row.value_at > 0 ? span(now - row.value_at) : null;
  if (!row) return <div role="row" aria-rowindex={at + 2} aria-busy="true" className="absolute inset-x-0 border-b border-line" style={place} />;
  return (
    <div
      id={rowId(row.id)}
      role="row"
      aria-rowindex={at + 2}
      aria-selected={isSelected}
      onClick={() => onChoose(at, row.id)}
      className={`${GRID} ${NARROW} absolute inset-x-0 contain-strict cursor-pointer border-b border-line hover:bg-select aria-selected:bg-select`}
      style={place}
    >
      <Cell className="text-soft max-md:order-3 max-md:text-xs">
        <span className="flex min-w-0 gap-2">
          <Middle text={row.device} />
          {isNarrow ? <span className="shrink-0 tabular-nums">{age ?? "never read"}</span> : null}
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
      <Cell className="text-right tabular-nums text-soft max-md:hidden">{age ?? "–"}</Cell>
      <Cell className="text-right font-mono text-xs text-soft @max-4xl:hidden">{raw(row.raw)}</Cell>
      <Cell className="@max-4xl:hidden">
        <Address>{row.address}</Address>
      </Cell>
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
