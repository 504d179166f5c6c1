import { expect, test } from "vitest";
import type { ObjectView } from "../../api/client";
import { fieldsOf } from "../description/schema";
import { copies, following, moved, proposed, tellingOf } from "./copies";

const device = (name: string, content: Record<string, unknown>): ObjectView => ({ class: "device", list: "", name, version: `v-${name}`, content: { name, link: "bus", ...content } });
const point: ObjectView = { class: "point", list: "points/meter-1.csv", name: "flow", version: "1", content: { name: "flow", address: "input:0" } };
const fields = fieldsOf({ required: ["name", "link", "unit"], properties: { name: { type: "string" }, link: { type: "string" }, unit: { type: "integer" }, base: { type: "integer" }, timeout: { type: "string" } } });
const meter = device("meter-1", { unit: 11, title: "Meter 1" });

test("names and numbers count on, around those that are taken", () => {
  expect(following("meter-09", new Set(["meter-10"]))).toBe("meter-11");
  expect([following("pump", new Set()), following("P-101 feed", new Set())]).toEqual(["pump-2", "P-102 feed"]);
  const telling = tellingOf(fields, meter.content as Record<string, unknown>);
  expect(telling.map((field) => field.key)).toEqual(["unit", "base"]);
  const rows = proposed(meter, [meter, device("meter-2", { unit: 12 })], telling, 2);
  expect(rows).toEqual([
    { name: "meter-3", title: "Meter 2", unit: "13", base: "" },
    { name: "meter-4", title: "Meter 3", unit: "14", base: "" },
  ]);
});

test("copies share the list of the original, which is named then, or have lists of their own", () => {
  const telling = tellingOf(fields, {});
  const rows = [{ name: "meter-3", title: "", unit: "13", base: "100" }];
  const shared = copies(meter, "points/meter-1.csv", [point], rows, telling, true);
  expect(shared.map((edit) => [edit.object.name, edit.content])).toEqual([
    ["meter-1", { name: "meter-1", link: "bus", unit: 11, title: "Meter 1", points: "points/meter-1.csv" }],
    ["meter-3", { name: "meter-3", link: "bus", unit: 13, base: 100, title: "Meter 1", points: "points/meter-1.csv" }],
  ]);
  const own = copies(meter, "points/meter-1.csv", [point], rows, telling, false);
  expect(own.map((edit) => [edit.object.class, edit.object.list])).toEqual([["device", ""], ["point", "points/meter-3.csv"]]);
});

test("a list that becomes a model takes its devices along", () => {
  const edits = moved("points/meter-1.csv", "models/meter.csv", [point], [meter]);
  expect(edits.map((edit) => [edit.object.class, edit.object.list, (edit.content as { points?: string } | null)?.points ?? null])).toEqual([
    ["point", "models/meter.csv", null],
    ["device", "", "models/meter.csv"],
    ["point", "points/meter-1.csv", null],
  ]);
});
