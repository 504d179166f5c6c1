import { expect, test } from "vitest";
import { count, exact, raw, span, value } from "./format";

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
    ["54.32", "0.1235", "12\u202f345.7", "7", "on", "–", "AN-4"],
  );
  expect([5432, false, 61.817722, null].map(raw)).toEqual(["5432", "0", "61.817722", "–"]);
  expect(count(1, "point")).toBe("1 point");
  expect(count(50_000, "point")).toBe("50,000 points");
});

test("what is of a type with decimals keeps them, and what is verified loses none", () => {
  expect([12, 12.5, 7_318_234].map((one) => value(one, null, "float32"))).toEqual(["12.00", "12.50", "7\u202f318\u202f234.0"]);
  expect([Math.fround(54.53), Math.fround(0.1), 3, Math.fround(-7.0868747e37)].map((one) => exact(one, "float32"))).toEqual(["54.53", "0.1", "3", "-7.0868747e+37"]);
  expect([exact(54.530000001, "float64"), exact(3 * 0.1)]).toEqual(["54.530000001", "0.3"]);
});
