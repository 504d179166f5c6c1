import { expect, test } from "vitest";
import { cellsOf } from "./list";

test("lists are read as spreadsheets write them", () => {
  const rows = [["name", "title"], ["flow", 'Raw gas, "dry"'], ["ph", "two\nlines"]];
  expect(cellsOf('name,title\nflow,"Raw gas, ""dry"""\nph,"two\nlines"\n\n')).toEqual(rows);
  expect(cellsOf('name;title\nflow;"Raw gas, ""dry"""\nph;"two\nlines"')).toEqual(rows);
  expect(cellsOf('name\ttitle\nflow\t"Raw gas, ""dry"""\nph\t"two\nlines"')).toEqual(rows);
});
