import type { Content, EditRequest, ObjectView } from "../../api/client";
import { contentOf } from "../description/edits";
import { type FormField, shown, takes, valueOf, withKey } from "../description/schema";
import { cellsOf } from "./list";

/** A place in the grid. */
export interface Place {
  row: number;
  column: number;
}

/** A rectangle of cells: from one place to another, whichever was first. */
export interface Range {
  from: Place;
  to: Place;
}

/** What is to become of a cell; no text takes its value away. */
export interface CellChange {
  /** The point's place; beyond the last one it is new. */
  row: number;
  key: string;
  text: string;
}

export function bounds({ from, to }: Range) {
  return {
    top: Math.min(from.row, to.row),
    bottom: Math.max(from.row, to.row),
    left: Math.min(from.column, to.column),
    right: Math.max(from.column, to.column),
  };
}

export const isIn = (range: Range, row: number, column: number): boolean => {
  const { top, bottom, left, right } = bounds(range);
  return row >= top && row <= bottom && column >= left && column <= right;
};

/** The text of a rectangle, as a spreadsheet takes it. */
export function copied(range: Range, rows: ObjectView[], columns: FormField[]): string {
  const { top, bottom, left, right } = bounds(range);
  const plain = (text: string) => (/["\t\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  return rows
    .slice(top, bottom + 1)
    .map((row) => columns.slice(left, right + 1).map((column) => plain(shown(contentOf(row)[column.key]))).join("\t"))
    .join("\n");
}

/** Whether a text begins with headings: then it is a list with columns of its own, and no rectangle of cells. */
export function hasHeading(text: string, columns: FormField[]): boolean {
  const [first = [], second] = cellsOf(text.slice(0, 4000), true);
  const plain = (of: string) => of.toLowerCase().replace(/[^a-z]/g, "");
  const words = new Set([...columns.flatMap((column) => [plain(column.key), plain(column.label)]), "register", "tag", "datatype", "description", "tagname"]);
  return second !== undefined && first.length > 1 && first.filter((cell) => words.has(plain(cell))).length >= 2;
}

/** What pasting a text does: one cell goes into all that are chosen, more of them from the first one on. */
export function pasted(text: string, range: Range, columns: FormField[]): CellChange[] {
  const cells = cellsOf(text, true);
  const { top, bottom, left, right } = bounds(range);
  const only = cells.length === 1 && cells[0]?.length === 1 ? (cells[0][0] ?? "") : null;
  const changes: CellChange[] = [];
  if (only !== null) {
    for (let row = top; row <= bottom; row++) for (const column of columns.slice(left, right + 1)) changes.push({ row, key: column.key, text: only });
    return changes;
  }
  cells.forEach((line, down) =>
    line.forEach((cell, over) => {
      const column = columns[left + over];
      if (column) changes.push({ row: top + down, key: column.key, text: cell });
    }),
  );
  return changes;
}

/** What filling down does: the first row of the rectangle goes into all below it. */
export function filled(range: Range, rows: ObjectView[], columns: FormField[]): CellChange[] {
  const { top, bottom, left, right } = bounds(range);
  const first = contentOf(rows[top]);
  const changes: CellChange[] = [];
  for (let row = top + 1; row <= bottom; row++) {
    for (const { key } of columns.slice(left, right + 1)) {
      const field = columns.find((column) => column.key === key);
      // Names and addresses tell points apart.
      if (key !== "name" && key !== "address" && field && takes(field, contentOf(rows[row]))) changes.push({ row, key, text: shown(first[key]) });
    }
  }
  return changes;
}

/** What taking away the values of a rectangle does. What a point cannot do without stays. */
export function cleared(range: Range, columns: FormField[]): CellChange[] {
  const { top, bottom, left, right } = bounds(range);
  const changes: CellChange[] = [];
  for (let row = top; row <= bottom; row++) {
    for (const column of columns.slice(left, right + 1)) if (!column.isRequired) changes.push({ row, key: column.key, text: "" });
  }
  return changes;
}

/** The edits that carry changes out, one a point; those that change nothing are left out. */
export function editsOf(changes: CellChange[], list: string, rows: ObjectView[], columns: FormField[], start: Content): EditRequest[] {
  const fields = new Map(columns.map((column) => [column.key, column]));
  const contents = new Map<number, Content>();
  for (const { row, key, text } of changes) {
    const field = fields.get(key);
    if (!field) continue;
    const before = contents.get(row) ?? (row < rows.length ? contentOf(rows[row]) : start);
    contents.set(row, withKey(before, key, valueOf(text.trim(), field.entry)));
  }
  return [...contents].flatMap(([at, content]): EditRequest[] => {
    const row = rows[at];
    const name = shown(content.name);
    if (!row) return name === "" ? [] : [{ object: { class: "point" as const, list, name }, version: null, content }];
    const before = contentOf(row);
    const isSame = Object.keys({ ...before, ...content }).every((key) => shown(before[key]) === shown(content[key]));
    return isSame ? [] : [{ object: { class: "point" as const, list, name: row.name }, version: row.version, began: before, content }];
  });
}

/** The edits that take others back: what they changed becomes what it was. `now` are the points as they are. */
export function takenBack(done: EditRequest[], now: ObjectView[]): EditRequest[] {
  const known = new Map(now.map((row) => [row.name, row]));
  return done.flatMap((edit): EditRequest[] => {
    const name = shown((edit.content as Content | null)?.name) || edit.object.name;
    const row = known.get(name);
    if (edit.version === null) return row ? [{ object: { ...edit.object, name }, version: row.version, began: contentOf(row), content: null }] : [];
    if (edit.content === null) return [{ object: edit.object, version: null, content: edit.began }];
    return row ? [{ object: { ...edit.object, name }, version: row.version, began: edit.content, content: edit.began }] : [];
  });
}
