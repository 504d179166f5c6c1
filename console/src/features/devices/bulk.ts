import type { EditRequest, ObjectView } from "../../api/client";
import { contentOf } from "../description/edits";
import { following } from "./copies";
import { type FormField, shown, takes, valueOf, withKey } from "../description/schema";

/**
 * The edits that set keys of several points, as they were typed; those that have it all already are left alone, and what a type cannot
 * take is not put into a point of it.
 */
export function setAll(list: string, points: ObjectView[], settings: { key: string; typed: string }[], fields: FormField[]): EditRequest[] {
  return points.flatMap((point) => {
    const before = contentOf(point);
    const content = settings.reduce((content, { key, typed }) => {
      const field = fields.find((known) => known.key === key);
      return field && takes(field, before) ? withKey(content, key, valueOf(typed, field.entry)) : content;
    }, before);
    const isSame = Object.keys({ ...before, ...content }).every((key) => shown(before[key]) === shown(content[key]));
    return isSame ? [] : [{ object: { class: "point" as const, list, name: point.name }, version: point.version, began: before, content }];
  });
}

/** The edits that add a copy of each point, under the next name that is free. */
export function duplicates(list: string, points: ObjectView[], names: string[]): EditRequest[] {
  const taken = new Set(names);
  return points.map((point) => {
    const name = following(point.name, taken);
    taken.add(name);
    return { object: { class: "point" as const, list, name }, version: null, content: { ...contentOf(point), name } };
  });
}
