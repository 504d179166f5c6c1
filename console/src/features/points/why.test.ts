import { describe, expect, test } from "vitest";
import type { PointView } from "../../api/client";
import { status } from "../../testing/service";
import { originOf, stretchesOf, whyOf } from "./why";

const point = (change: Partial<PointView>) => ({ gateway: "alderfen-1", device: "gas-analyser", name: "ch4", address: "input:9", quality: "bad", unit: "%", low: 0, high: 100, ...change }) as PointView;

describe("why a value is not to be relied on", () => {
  const told = status();
  const why = (change: Partial<PointView>) => whyOf(point(change), originOf(point(change), told))?.what;
  test("is said in whole words, by what is nearest to the cause", () => {
    expect(why({ quality: "good" })).toBeUndefined();
    expect(why({ reason: "device exception 02, illegal data address" })).toBe("gas-analyser answers that it has nothing at input:9 (device exception 02, illegal data address).");
    expect(why({ reason: "out of range", quality: "uncertain" })).toBe("The value is outside of its limits, 0 to 100 %.");
    Object.assign(told.gateways[0]!.links[0]!.devices[0]!, { state: "silent", last_error: "unit 3: no answer" });
    expect(why({ reason: "timeout" })).toBe("gas-analyser does not answer: unit 3: no answer.");
    Object.assign(told.gateways[0]!.links[0]!, { state: "down", last_error: "connection refused" });
    expect(why({ reason: "link down" })).toBe("The link process-bus is down: connection refused.");
  });
});

test("the quality goes in stretches, the last one first", () => {
  const moments = [true, true, false, false, true].map((good, at) => ({ at, good }));
  expect(stretchesOf(moments)).toEqual([
    { from: 4, to: 4, good: true },
    { from: 2, to: 4, good: false },
    { from: 0, to: 2, good: true },
  ]);
});
