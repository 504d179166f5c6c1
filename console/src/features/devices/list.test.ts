import { expect, test } from "vitest";
import { cellsOf, readList } from "./list";

const SCHEMA = { properties: { name: { type: "string" }, address: { type: "string" }, scale: { type: "number" }, title: { type: "string" } } };

test("lists are read as spreadsheets write them", () => {
  const rows = [["name", "title"], ["flow", 'Raw gas, "dry"'], ["ph", "two\nlines"]];
  expect(cellsOf('name,title\nflow,"Raw gas, ""dry"""\nph,"two\nlines"\n\n')).toEqual(rows);
  expect(cellsOf('name;title\nflow;"Raw gas, ""dry"""\nph;"two\nlines"')).toEqual(rows);
  expect(cellsOf('name\ttitle\nflow\t"Raw gas, ""dry"""\nph\t"two\nlines"')).toEqual(rows);
});

test("numbers become numbers, empty cells are left out, and what cannot be taken over is told by line", () => {
  const { rows, faults } = readList("\uFEFFName;Address;Scale;Colour\r\nflow;input:4;0,01;red\r\n;input:5;;\r\n", SCHEMA);
  expect(rows).toEqual([{ name: "flow", address: "input:4", scale: 0.01 }]);
  expect(faults).toEqual(["Column Colour is not known; columns are name, address, scale, title", "Line 3 has no name"]);
  expect(readList("address\ninput:4", SCHEMA).faults[0]).toBe("There is no column name");
});

test("a switch takes true and false alone, and words for numbers keep their semicolons", () => {
  const schema = { properties: { name: { type: "string" }, invert: { type: "boolean" }, enumeration: { type: "string" } } };
  const { rows, faults } = readList("name,invert,enumeration\na,true,0=off;1=on\nb,false,\nc,yes,\n", schema);
  expect(faults).toEqual([]);
  // What is no switch stays as it was written, so that the check can say so.
  expect(rows).toEqual([{ name: "a", invert: true, enumeration: "0=off;1=on" }, { name: "b", invert: false }, { name: "c", invert: "yes" }]);
});
