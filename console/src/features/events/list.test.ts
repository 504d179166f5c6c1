import { describe, expect, test } from "vitest";
import type { EventView } from "../../api/client";
import { inOrder, isLate, timeSays } from "./list";

const event = (id: number, at: number, changes: Partial<EventView> = {}): EventView => ({
  id,
  at,
  arrived: at,
  time: "synchronized",
  device: "grid",
  address: "double-bit:0",
  state: "closed",
  flags: "online",
  ...changes,
});

describe("the sequence of events", () => {
  test("stands in the order of its times, and of one moment in the order told, each once", () => {
    const told = [event(1, 50), event(2, 20), event(3, 50), event(4, 60), event(3, 50)];
    expect(inOrder(told).map(({ id }) => id)).toEqual([4, 3, 1, 2]);
  });

  test("says what a time is worth, and what came late", () => {
    expect([timeSays("synchronized"), timeSays("unsynchronized"), timeSays("arrival")]).toEqual(["", "its clock is not set", "when it arrived"]);
    expect([isLate(event(1, 0, { arrived: 61_000 })), isLate(event(1, 0, { arrived: 2000 }))]).toEqual([true, false]);
  });
});
