import { describe, expect, it } from "vitest";
import type { Offer } from "../../api/client";
import { after, fits, matching, NOTHING } from "./offers";

const offer = (path: string, point: Record<string, unknown>, note = ""): Offer => ({ path: path.split("/"), point, note });

describe("offers", () => {
  it("are collected from their stream, with what is told beside them", () => {
    const running = after(NOTHING, [
      { kind: "progress", done: 3, total: 9 },
      { kind: "note", text: "model 1" },
      { kind: "device", device: { unit: 4 }, said: "0000" },
      { kind: "way", link: { security: "none" }, said: "no security" },
      { kind: "points", offers: [offer("a/b", { address: "input:0" })] },
    ]);
    expect([running.done, running.total, running.notes, running.devices[0]?.keys]).toEqual([3, 9, ["model 1"], { unit: 4 }]);
    expect(running.ways).toEqual([{ keys: { security: "none" }, said: "no security" }]);
    const over = after(running, [{ kind: "points", offers: [offer("c", {})] }, { kind: "done", requests: 1200 }]);
    expect([over.state, over.said, over.offers.length]).toEqual(["over", "Done, with 1,200 requests.", 2]);
    expect(after(over, [{ kind: "failed", why: "unit 3: no answer" }]).said).toBe("unit 3: no answer");
  });

  it("are found by path, address, title, unit and note", () => {
    const offers = [
      offer("inverter/W", { address: "holding:84", title: "AC power", unit: "W" }),
      offer("inverter/Hz", { address: "holding:86", unit: "Hz" }, "model 103"),
    ];
    expect(matching(offers, "")).toEqual([0, 1]);
    expect(matching(offers, " ac POWER")).toEqual([0]);
    expect(["holding:86", "hz", "103"].map((text) => matching(offers, text))).toEqual([[1], [1], [1]]);
    expect(matching(offers, "nothing")).toEqual([]);
  });
});

it("names fit patterns as they do for the client", () => {
  const names = ["ahu-1", "ahu-12", "AHU-east", "chiller-1"];
  const found = (pattern: string) => names.filter((name) => fits(pattern, name));
  expect(found("ahu-*")).toEqual(["ahu-1", "ahu-12"]);
  expect(found("*-1")).toEqual(["ahu-1", "chiller-1"]);
  expect(found("*i*r*")).toEqual(["chiller-1"]);
  expect([found("ahu"), found(""), found("a*1*1")]).toEqual([[], [], []]);
});
