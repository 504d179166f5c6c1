import { expect, test } from "vitest";
import { count, raw, span, value } from "./format";

test("spans are said as people say them", () => {
  expect([-5, 432, 12_000, 119_000, 180_000, 7_300_000, 200_000_000].map(span)).toEqual([
    "0.0 s",
    "0.4 s",
    "12 s",
    "119 s",
    "3 min",
    "2 h",
    "2 d",
  ]);
});

test("values are shown as a meter would, raw ones as they came", () => {
  expect(value(41, 1)).toBe("41.0");
  expect([54.321, 0.12345, 12345.678, 7, true, null, "AN-4"].map((one) => value(one))).toEqual(
    ["54.32", "0.1235", "12345.7", "7", "on", "–", "AN-4"],
  );
  expect([5432, false, 61.817722, null].map(raw)).toEqual(["5432", "0", "61.817722", "–"]);
  expect(count(1, "point")).toBe("1 point");
  expect(count(50_000, "point")).toBe("50,000 points");
});
