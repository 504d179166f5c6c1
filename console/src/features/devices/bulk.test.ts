import { describe, expect, it } from "vitest";
import type { ObjectView } from "../../api/client";
import { fieldsOf } from "../description/schema";
import { duplicates, setAll } from "./bulk";

const point = (name: string, content: Record<string, unknown>): ObjectView => ({ class: "point", list: "p.csv", name, version: `v-${name}`, content: { name, ...content } });
const rows = [point("flow", { type: "float32", rate: "fast", unit: "m³/h" }), point("level", { type: "uint16", rate: "slow" }), point("runs", { type: "bool", rate: "fast" })];
const fields = fieldsOf({ properties: { rate: { type: "string" }, deadband: { type: "number", "x-for": "numbers" } } });

describe("several points at once", () => {
  it("are set to one value, and the ones that have it are left alone", () => {
    const edits = setAll("p.csv", rows, [{ key: "rate", typed: "fast" }], fields);
    const before = { name: "level", type: "uint16", rate: "slow" };
    expect(edits).toEqual([{ object: { class: "point", list: "p.csv", name: "level" }, version: "v-level", began: before, content: { ...before, rate: "fast" } }]);
  });

  it("get several values in one edit each, but none that their type cannot take", () => {
    const edits = setAll("p.csv", rows, [{ key: "rate", typed: "slow" }, { key: "deadband", typed: "0,5" }], fields);
    expect(edits.map((edit) => edit.content)).toMatchObject([{ name: "flow", rate: "slow", deadband: 0.5 }, { name: "level", deadband: 0.5 }, { name: "runs", rate: "slow" }]);
    expect(edits[2]?.content).not.toHaveProperty("deadband");
  });

  it("lose a value that is taken away, and keep all their others", () => {
    expect(setAll("p.csv", rows.slice(0, 1), [{ key: "rate", typed: "" }], fields).map((edit) => edit.content)).toEqual([{ name: "flow", type: "float32", unit: "m³/h" }]);
  });

  it("are copied under the next names that are free", () => {
    const edits = duplicates("p.csv", rows.slice(0, 2), ["flow", "flow-2", "level"]);
    expect(edits.map((edit) => [edit.object.name, edit.version])).toEqual([["flow-3", null], ["level-2", null]]);
  });
});
