import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type { PointView, ReadingView } from "../../api/client";
import { type WindowWanted, windowQuery } from "../../api/queries";

export type SortKey = NonNullable<WindowWanted["sort"]>;
export type QualityFilter = "all" | "good" | "not-good";

export interface Filter {
  text: string;
  device: string;
  quality: QualityFilter;
  sort: SortKey;
  descending: boolean;
}

/** So many rows are asked for at once. */
export const BLOCK = 100;
/** How often rows in view are asked for anew: where their order moves, and where it does not. */
const MOVING = 2000;
const STEADY = 5000;

/** What a filter asks of the service. */
export function wantedOf(filter: Filter): WindowWanted {
  return {
    ...(filter.text.trim() ? { q: filter.text.trim() } : {}),
    ...(filter.device ? { device: filter.device } : {}),
    ...(filter.quality === "all" ? {} : { quality: filter.quality }),
    ...(filter.sort === "listed" ? {} : { sort: filter.sort }),
    ...(filter.descending ? { descending: true } : {}),
  };
}

const block = (filter: Filter, at: number, revisions: string) => ({
  ...windowQuery({ ...wantedOf(filter), from: at * BLOCK, limit: BLOCK }, revisions),
  refetchInterval: filter.quality === "all" && ["listed", "device", "name"].includes(filter.sort) ? STEADY : MOVING,
});

/** How many points a filter admits, and how many there are; those of before, until it is known. */
export function useCounts(filter: Filter, revisions: string) {
  return useQuery({ ...block(filter, 0, revisions), placeholderData: keepPreviousData });
}

/** The rows from one to another, as far as they are known; the rest comes. */
export function useRows(filter: Filter, revisions: string, first: number, last: number): (at: number) => PointView | undefined {
  const blocks = useMemo(() => {
    const [from, to] = [Math.floor(first / BLOCK), Math.floor(Math.max(last, first) / BLOCK)];
    return Array.from({ length: to - from + 1 }, (_, at) => from + at);
  }, [first, last]);
  const known = useQueries({ queries: blocks.map((at) => block(filter, at, revisions)) });
  return (at) => known[Math.floor(at / BLOCK) - (blocks[0] ?? 0)]?.data?.rows[at % BLOCK];
}

/** Where a point stands in the list, null where it is not in it; undefined until that is known. */
export function usePlace(filter: Filter, revisions: string, id: string | null): number | null | undefined {
  const found = useQuery({ ...windowQuery({ ...wantedOf(filter), limit: 1, find: id ?? "" }, revisions), enabled: id !== null, staleTime: 0, gcTime: 0 });
  return id === null || !found.data ? undefined : (found.data.at ?? null);
}

/** A point with its newest reading of the stream. */
export function withReading<P extends PointView>(point: P, readings: ReadonlyMap<string, ReadingView>): P {
  const reading = readings.get(point.id);
  return reading ? { ...point, ...reading } : point;
}
