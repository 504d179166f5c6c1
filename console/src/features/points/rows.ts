import type { PointView, ReadingView } from "../../api/client";

export type SortKey = "listed" | "device" | "name" | "value" | "quality" | "age";
export type QualityFilter = "all" | "good" | "not-good";

export interface Filter {
  text: string;
  device: string;
  quality: QualityFilter;
  sort: SortKey;
  descending: boolean;
}

const RANK: Record<string, number> = { bad: 0, uncertain: 1, good: 2 };

/** Points with the newest readings of the stream. */
export function withReadings(points: PointView[], readings: ReadonlyMap<string, ReadingView>): PointView[] {
  return points.map((point) => {
    const reading = readings.get(point.id);
    return reading ? { ...point, ...reading } : point;
  });
}

/** What a filter's text is looked for in, for each point: made once for a list, and not at every key. */
export function searchable(points: PointView[]): string[] {
  return points.map((point) => [point.name, point.title, point.device, point.address].join("\n").toLowerCase());
}

/**
 * The rows that a filter admits, in its order; `texts` are those of the same points. Sorting is stable, so that rows do
 * not jump between equals.
 */
export function select(points: PointView[], filter: Filter, texts = searchable(points)): PointView[] {
  const text = filter.text.trim().toLowerCase();
  const admitted = points.filter(
    (point, at) =>
      (filter.device === "" || point.device === filter.device) &&
      (filter.quality === "all" || (point.quality === "good") === (filter.quality === "good")) &&
      (text === "" || texts[at]?.includes(text)),
  );
  if (filter.sort === "listed") return admitted;
  const key = filter.sort;
  const turn = filter.descending ? -1 : 1;
  return admitted.sort((left, right) => turn * compare(left, right, key));
}

function compare(left: PointView, right: PointView, key: Exclude<SortKey, "listed">): number {
  switch (key) {
    case "device":
      return left.device.localeCompare(right.device);
    case "name":
      return left.name.localeCompare(right.name);
    case "value":
      return Number(left.value ?? -Infinity) - Number(right.value ?? -Infinity);
    case "quality":
      return (RANK[left.quality] ?? 3) - (RANK[right.quality] ?? 3);
    case "age":
      return right.value_at - left.value_at;
  }
}
