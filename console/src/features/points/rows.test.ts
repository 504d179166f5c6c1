import { expect, test } from "vitest";
import type { PointView } from "../../api/client";
import { type Filter, select, withReadings } from "./rows";

function point(device: string, name: string, quality = "good", value: unknown = 1, gateway_at = 0): PointView {
  return {
    id: `g/${device}/${name}`,
    gateway: "g",
    device,
    name,
    title: `${name} title`,
    address: "input:0",
    type: "uint16",
    unit: "",
    rate: "fast",
    report: "change",
    writable: false,
    relinquishable: false,
    confirm: "once",
    value,
    raw: value,
    quality,
    source_at: gateway_at,
    gateway_at,
    value_at: gateway_at,
  } as PointView;
}

const all: Filter = { text: "", device: "", quality: "all", sort: "listed", descending: false };
const points = [
  point("digester-1", "temperature", "good", 40.6, 5),
  point("gas-analyser", "ch4", "bad", 54.3, 1),
  point("gas-analyser", "o2", "uncertain", 3.4, 9),
];
const names = (filter: Partial<Filter>) => select(points, { ...all, ...filter }).map((row) => row.name);

test("text is looked for in name, title, device and address", () => {
  expect(names({ text: "CH4" })).toEqual(["ch4"]);
  expect(names({ text: "analyser" })).toEqual(["ch4", "o2"]);
  expect(names({ text: "input:0" })).toHaveLength(3);
  expect(names({ text: "nothing" })).toEqual([]);
});

test("device and quality narrow the rows", () => {
  expect(names({ device: "digester-1" })).toEqual(["temperature"]);
  expect(names({ quality: "not-good" })).toEqual(["ch4", "o2"]);
  expect(names({ quality: "good" })).toEqual(["temperature"]);
});

test("what needs a person sorts first by quality, the oldest last by age", () => {
  expect(names({ sort: "quality" })).toEqual(["ch4", "o2", "temperature"]);
  expect(names({ sort: "age" })).toEqual(["o2", "temperature", "ch4"]);
  expect(names({ sort: "value", descending: true })).toEqual(["ch4", "temperature", "o2"]);
  expect(points.map((row) => row.name)).toEqual(["temperature", "ch4", "o2"]);
});

test("readings of the stream replace the listed ones", () => {
  const reading = { value: 41, raw: 410, quality: "good", source_at: 7, gateway_at: 7, value_at: 7 };
  const [first, second] = withReadings(points, new Map([["g/digester-1/temperature", reading]]));
  expect(first?.value).toBe(41);
  expect(second).toBe(points[1]);
});
