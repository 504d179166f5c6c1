import { describe, expect, test } from "vitest";
import type { ObjectView } from "../../api/client";
import { fieldsOf } from "../description/schema";
import { cleared, copied, editsOf, filled, hasHeading, pasted, takenBack } from "./grid";

const row = (name: string, content: Record<string, unknown>): ObjectView => ({ class: "point", list: "p.csv", name, version: `v-${name}`, content: { name, ...content } });
const rows = [row("flow", { address: "input:0", scale: 0.1, rate: "fast" }), row("level", { address: "input:2", rate: "fast" }), row("runs", { address: "coil:3", type: "bool", rate: "fast" })];
const columns = fieldsOf({
  required: ["name", "address", "rate"],
  properties: { name: { type: "string" }, address: { type: "string" }, type: { type: "string" }, scale: { type: "number", "x-for": "numbers" }, rate: { type: "string" } },
});
const range = (top: number, left: number, bottom: number, right: number) => ({ from: { row: bottom, column: left }, to: { row: top, column: right } });
const edits = (changes: Parameters<typeof editsOf>[0]) => editsOf(changes, "p.csv", rows, columns, { rate: "fast" });

describe("cells of a list", () => {
  test("go to a spreadsheet and come back from it, in one edit a point", () => {
    expect(copied(range(0, 0, 1, 3), rows, columns)).toBe("flow\tinput:0\t\t0.1\nlevel\tinput:2\t\t");
    const changes = pasted("0,2\r\n0,3\r\n", range(0, 3, 0, 3), columns);
    expect(edits(changes).map((edit) => [edit.object.name, edit.version, edit.content])).toEqual([
      ["flow", "v-flow", { name: "flow", address: "input:0", scale: 0.2, rate: "fast" }],
      ["level", "v-level", { name: "level", address: "input:2", scale: 0.3, rate: "fast" }],
    ]);
  });

  test("one cell goes into all that are marked, and what is the same already is no edit", () => {
    expect(edits(pasted("slow", range(0, 4, 2, 4), columns)).map((edit) => (edit.content as { rate: string }).rate)).toEqual(["slow", "slow", "slow"]);
    expect(edits(pasted("fast", range(0, 4, 2, 4), columns))).toEqual([]);
  });

  test("below the last one are new points, where they have a name", () => {
    const added = edits(pasted("ph\tinput:8\t\t0.01\n\tinput:9\t\t", range(3, 0, 3, 0), columns));
    expect(added).toEqual([{ object: { class: "point", list: "p.csv", name: "ph" }, version: null, content: { rate: "fast", name: "ph", address: "input:8", scale: 0.01 } }]);
  });

  test("are filled down, but neither names nor what a type cannot take", () => {
    const changes = filled(range(0, 0, 2, 4), rows, columns);
    expect(changes.filter((change) => change.row === 2).map((change) => change.key)).toEqual(["type", "rate"]);
    expect(edits(filled(range(0, 3, 2, 3), rows, columns)).map((edit) => edit.object.name)).toEqual(["level"]);
  });

  test("are emptied, but for what no point can do without", () => {
    expect(edits(cleared(range(0, 0, 0, 4), columns))[0]?.content).toEqual({ name: "flow", address: "input:0", rate: "fast" });
  });

  test("what was done is taken back, renamings and new points included", () => {
    const renamed = edits([{ row: 0, key: "name", text: "gas-flow" }]);
    const now = [row("gas-flow", { address: "input:0", scale: 0.1, rate: "fast" }), ...rows.slice(1)];
    expect(takenBack(renamed, now)).toMatchObject([{ object: { name: "gas-flow" }, version: "v-gas-flow", content: { name: "flow" } }]);
    const added = edits([{ row: 9, key: "name", text: "new" }]);
    expect(takenBack(added, [...rows, row("new", {})])).toMatchObject([{ object: { name: "new" }, content: null }]);
    expect(takenBack(takenBack(added, [...rows, row("new", {})]), rows)).toMatchObject([{ version: null, content: { name: "new" } }]);
  });

  test("a list with headings is told from cells", () => {
    expect(hasHeading("Register\tData type\tName\n0\tREAL\tflow", columns)).toBe(true);
    expect(hasHeading("flow\tinput:0\tfloat32\nlevel\tinput:2\tfloat32", columns)).toBe(false);
  });
});
