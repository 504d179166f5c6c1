import { describe, expect, it } from "vitest";
import type { ObjectView } from "../../api/client";
import { fillDown, range, setAll } from "./bulk";

const point = (name: string, content: Record<string, unknown>): ObjectView => ({ class: "point", list: "p.csv", name, version: `v-${name}`, content: { name, ...content } });
const rows = [point("flow", { rate: "fast", unit: "m³/h" }), point("level", { rate: "slow" }), point("ph", { rate: "fast", scale: 0.01 })];

describe("several points at once", () => {
  it("are those between two rows, whichever was chosen first", () => {
    expect(range(rows, "ph", "flow")).toEqual(["flow", "level", "ph"]);
    expect(range(rows, "gone", "level")).toEqual(["level"]);
  });

  it("are set to one value, and the ones that have it are left alone", () => {
    const edits = setAll("p.csv", rows, "rate", "fast");
    expect(edits).toEqual([{ object: { class: "point", list: "p.csv", name: "level" }, version: "v-level", began: { name: "level", rate: "slow" }, content: { name: "level", rate: "fast" } }]);
  });

  it("lose a value that is taken away, and keep all their others", () => {
    expect(setAll("p.csv", rows, "scale", undefined).map((edit) => edit.content)).toEqual([{ name: "ph", rate: "fast" }]);
  });

  it("get what the first of them has", () => {
    const edits = fillDown("p.csv", rows, "unit");
    expect(edits.map((edit) => [edit.object.name, (edit.content as Record<string, unknown>).unit])).toEqual([["level", "m³/h"], ["ph", "m³/h"]]);
  });
});
