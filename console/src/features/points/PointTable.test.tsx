import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { PointView } from "../../api/client";
import { clear, show as open } from "../../testing/service";
import { PointTable } from "./PointTable";
import type { Filter } from "./rows";

const filter: Filter = { text: "", device: "", quality: "all", sort: "listed", descending: false };

function point(name: string, reading: Partial<PointView>): PointView {
  return {
    id: `alderfen-1/gas-analyser/${name}`,
    gateway: "alderfen-1",
    device: "gas-analyser",
    name,
    title: "",
    address: "input:0",
    type: "uint16",
    unit: "%",
    decimals: 2,
    rate: "normal",
    report: "change",
    writable: false,
    relinquishable: false,
    confirm: "once",
    value: 54.3,
    raw: 5430,
    quality: "good",
    source_at: 1000,
    gateway_at: 1000,
    value_at: 1000,
    ...reading,
  };
}

const rows = [
  point("ch4", {}),
  point("o2", { quality: "uncertain", reason: "out of range", value: 3.4, raw: 340 }),
  point("h2s", { quality: "bad", reason: "timeout", unit: "ppm", decimals: 0, value: 85, raw: 85 }),
  point("purge", { quality: "bad", reason: "never read", value: null, raw: null, gateway_at: 0, value_at: 0 }),
];

beforeEach(() => {
  vi.stubGlobal("matchMedia", () => ({ matches: false }));
  // jsdom lays nothing out: the scroller is told its size, so that rows come into view.
  vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(600);
  vi.spyOn(Element.prototype, "clientWidth", "get").mockReturnValue(1000);
});

afterEach(() => {
  clear();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

/** As many as there are, of which the service gives those in view. */
const TOTAL = 100_000;

async function show(selected: string | null = null) {
  const onSelect = vi.fn();
  const onSort = vi.fn();
  const table = (
    <PointTable total={TOTAL} revisions="alderfen-1 4" now={3500} selected={selected} onSelect={onSelect} filter={filter} onSort={onSort} />
  );
  const page = open(table, "/", {
    "points/window?from=0&limit=100": { json: { total: TOTAL, all: TOTAL, not_good: 3, at: null, rows } },
    "PUT live/7": { json: null },
  });
  await screen.findByText("ch4");
  return { onSelect, onSort, page };
}

const cells = (row: HTMLElement) => within(row).getAllByRole("gridcell").map((cell) => cell.textContent);

test("a row says value, unit, quality with its reason, age, raw value and address", async () => {
  await show();
  const [, ch4, o2, h2s, purge] = screen.getAllByRole("row");
  expect(cells(ch4!)).toEqual(["gas-analyser", "ch4", "54.30 %", "%", "good", "2.5 s", "5430", "input:0"]);
  expect(cells(o2!)[4]).toBe("uncertain: out of range");
  expect(cells(h2s!).slice(2, 5)).toEqual(["85 ppm", "ppm", "bad: timeout"]);
  expect(cells(purge!).slice(2)).toEqual(["– %", "%", "bad: never read", "–", "–", "input:0"]);
});

test("what is in view is said to the stream, and its readings are laid over what was listed", async () => {
  const { page } = await show();
  await page.tell("/api/v1/live", "opened", { stream: 7 });
  await waitFor(() => expect(page.sent.at(-1)).toEqual({ call: "PUT live/7", body: { points: rows.map((row) => row.id) } }));
  const reading = { value: 55.1, raw: 5510, quality: "good", source_at: 3000, gateway_at: 3000, value_at: 3000 };
  await page.tell("/api/v1/live", "values", { at: 3000, values: [{ id: rows[0]!.id, ...reading }] });
  await screen.findByText("55.10");
  expect(cells(screen.getAllByRole("row")[1]!).slice(2, 7)).toEqual(["55.10 %", "%", "good", "0.5 s", "5510"]);
});

test("arrow keys move the selection and stop at the ends", async () => {
  const { onSelect } = await show(rows[3]!.id);
  const grid = screen.getByRole("grid", { name: "Points" });
  fireEvent.keyDown(grid, { key: "ArrowUp" });
  fireEvent.keyDown(grid, { key: "Home" });
  fireEvent.keyDown(grid, { key: "ArrowUp" });
  fireEvent.keyDown(grid, { key: "x" });
  expect(onSelect.mock.calls.flat().map((id) => id.split("/").at(-1))).toEqual(["h2s", "ch4", "h2s"]);
});

test("the first arrow chooses the first row, a click any", async () => {
  const { onSelect } = await show();
  fireEvent.keyDown(screen.getByRole("grid"), { key: "ArrowDown" });
  fireEvent.click(screen.getByText("h2s"));
  expect(onSelect.mock.calls.flat()).toEqual([rows[0]!.id, rows[2]!.id]);
});

test("headings sort, and say how it is sorted", async () => {
  const { onSort } = await show();
  fireEvent.click(screen.getByRole("button", { name: "Quality" }));
  expect(onSort).toHaveBeenCalledWith("quality");
  expect(screen.getByRole("columnheader", { name: "Quality" }).getAttribute("aria-sort")).toBe("none");
});
