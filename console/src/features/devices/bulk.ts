import type { Content, EditRequest, ObjectView } from "../../api/client";
import { contentOf } from "../description/edits";
import { shown, withKey } from "../description/schema";

/** The names from one row to another, both included, in the order of the rows. */
export function range(rows: ObjectView[], from: string, to: string): string[] {
  const [one, two] = [from, to].map((name) => rows.findIndex((row) => row.name === name));
  if (one === undefined || two === undefined || one < 0 || two < 0) return [to];
  return rows.slice(Math.min(one, two), Math.max(one, two) + 1).map((row) => row.name);
}

/** The edits that set one key of several points to one value; those that have it already are left alone. */
export function setAll(list: string, points: ObjectView[], key: string, value: unknown): EditRequest[] {
  return edits(list, points, (content) => withKey(content, key, value));
}

/** The edits that give the first point's value of a key to the points below it. */
export function fillDown(list: string, points: ObjectView[], key: string): EditRequest[] {
  const [first, ...rest] = points;
  return setAll(list, rest, key, contentOf(first)[key]);
}

function edits(list: string, points: ObjectView[], change: (content: Content) => Content): EditRequest[] {
  return points.flatMap((point) => {
    const before = contentOf(point);
    const content = change(before);
    const isSame = Object.keys({ ...before, ...content }).every((key) => shown(before[key]) === shown(content[key]));
    return isSame ? [] : [{ object: { class: "point" as const, list, name: point.name }, version: point.version, began: before, content }];
  });
}
