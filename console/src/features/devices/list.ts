import type { Content } from "../../api/client";
import { type FormField, fieldsOf, valueOf } from "../description/schema";

/** A pasted list, taken apart. */
export interface Pasted {
  rows: Content[];
  /** What cannot be taken over, with its line. */
  faults: string[];
}

/** Splits text as spreadsheets write it: cells apart by tab, semicolon or comma, quotes around what holds one of them. */
export function cellsOf(text: string): string[][] {
  const first = text.split("\n", 1)[0] ?? "";
  const separator = ["\t", ";", ","].find((mark) => first.includes(mark)) ?? ",";
  const rows: string[][] = [[]];
  let cell = "";
  let isQuoted = false;
  for (let at = 0; at < text.length; at++) {
    const letter = text[at];
    if (isQuoted) {
      if (letter !== '"') cell += letter;
      else if (text[at + 1] === '"') cell += text[++at];
      else isQuoted = false;
    } else if (letter === '"' && cell === "") isQuoted = true;
    else if (letter === separator || letter === "\n") {
      rows.at(-1)?.push(cell.trim());
      cell = "";
      if (letter === "\n") rows.push([]);
    } else cell += letter;
  }
  rows.at(-1)?.push(cell.trim());
  return rows.filter((row) => row.some((text) => text !== ""));
}

/** Reads a pasted point list with a heading, in the columns of the files. */
export function readList(text: string, schema: unknown): Pasted {
  const [heading = [], ...lines] = cellsOf(text.replace(/^\uFEFF/, "").replaceAll("\r\n", "\n"));
  const fields = new Map<string, FormField>(fieldsOf(schema).map((field) => [field.key, field]));
  const columns = heading.map((name) => fields.get(name.toLowerCase()));
  const faults = heading
    .filter((name) => name !== "" && !fields.has(name.toLowerCase()))
    .map((name) => `Column ${name} is not known; columns are ${[...fields.keys()].join(", ")}`);
  if (!columns.some((field) => field?.key === "name")) faults.push("There is no column name");
  const rows = lines.map((cells, at) => {
    const content: Content = {};
    cells.forEach((cell, column) => {
      const field = columns[column];
      const value = field ? valueOf(cell, field.entry) : undefined;
      if (field && value !== undefined) content[field.key] = value;
    });
    if (!content.name) faults.push(`Line ${at + 2} has no name`);
    return content;
  });
  return { rows: rows.filter((row) => row.name), faults };
}
