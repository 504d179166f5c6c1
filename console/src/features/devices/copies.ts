import type { Content, EditRequest, ObjectView } from "../../api/client";
import { contentOf } from "../description/edits";
import { type FormField, shown, valueOf } from "../description/schema";

/** What tells devices of one make apart, in the words of the protocols. */
const TELLING = ["unit", "instance", "outstation", "address", "host", "port", "station", "base"];

/** The fields that are asked for each copy: those that its link needs, and those that the device itself has set. */
export function tellingOf(fields: FormField[], content: Content): FormField[] {
  return fields.filter(({ key, isRequired }) => TELLING.includes(key) && (isRequired || key in content || key === "base"));
}

/** A text with its last number one higher, as often as it takes to be none of those that are taken. */
export function following(text: string, taken: ReadonlySet<string>): string {
  const [, head = text, digits] = /^(.*?)(\d+)(?!.*\d)/.exec(text) ?? [];
  const tail = digits === undefined ? "" : text.slice(head.length + digits.length);
  for (let number = digits === undefined ? 2 : Number(digits) + 1; ; number++) {
    const next = digits === undefined ? `${text}-${number}` : `${head}${String(number).padStart(digits.length, "0")}${tail}`;
    if (!taken.has(next)) return next;
  }
}

/** One row for each copy: a name, and what tells it from the others, counted on from the original. */
export function proposed(device: ObjectView, others: ObjectView[], telling: FormField[], many: number): Record<string, string>[] {
  const content = contentOf(device);
  const onLink = others.filter((other) => contentOf(other).link === content.link);
  const taken: Record<string, Set<string>> = { name: new Set(others.map((other) => other.name)) };
  for (const { key } of telling) taken[key] = new Set(onLink.map((other) => shown(contentOf(other)[key])));
  const rows: Record<string, string>[] = [];
  let last: Record<string, string> = { name: device.name, title: shown(content.title), ...Object.fromEntries(telling.map(({ key }) => [key, shown(content[key])])) };
  for (let at = 0; at < many; at++) {
    const name = following(last.name ?? "", taken.name ?? new Set());
    taken.name?.add(name);
    const row: Record<string, string> = { name, title: last.title ? following(last.title, new Set()) : "" };
    for (const { key, entry } of telling) {
      const before = last[key] ?? "";
      // Where it stands and where its map begins is the same, as far as anybody knows.
      const counts = entry.kind === "number" && key !== "base" && key !== "port" && before !== "";
      row[key] = counts ? following(before, taken[key] ?? new Set()) : before;
      taken[key]?.add(row[key] ?? "");
    }
    rows.push(row);
    last = row;
  }
  return rows;
}

/** The edits that add copies: with one list for all, which is a model then, or with lists of their own. */
export function copies(device: ObjectView, list: string, points: ObjectView[], rows: Record<string, string>[], telling: FormField[], isShared: boolean): EditRequest[] {
  const content = contentOf(device);
  const added = rows.flatMap((row): EditRequest[] => {
    const name = row.name ?? "";
    const own = isShared ? list : `points/${name}.csv`;
    const copy: Content = { ...content, name, points: own };
    if (row.title) copy.title = row.title;
    for (const { key, entry } of telling) {
      const value = valueOf(row[key] ?? "", entry);
      if (value === undefined) delete copy[key];
      else copy[key] = value;
    }
    const edit = { object: { class: "device" as const, list: "", name }, version: null, content: copy };
    const ownPoints = isShared ? [] : points.map((point): EditRequest => ({ object: { class: "point", list: own, name: point.name }, version: null, content: point.content as Content }));
    return [edit, ...ownPoints];
  });
  // A list that is called after its device would go with another name of it.
  const names: EditRequest[] = isShared && shown(content.points) === "" ? [{ object: { class: "device", list: "", name: device.name }, version: device.version, began: content, content: { ...content, points: list } }] : [];
  return [...names, ...added];
}

/** The edits that put a list at another place, with all devices that use it; or a copy of it there. */
export function moved(from: string, to: string, points: ObjectView[], users: ObjectView[], isCopy = false): EditRequest[] {
  const there = points.map((point): EditRequest => ({ object: { class: "point", list: to, name: point.name }, version: null, content: point.content as Content }));
  if (isCopy) return there;
  return [
    ...there,
    ...users.map((user): EditRequest => {
      const content = contentOf(user);
      return { object: { class: "device", list: "", name: user.name }, version: user.version, began: content, content: { ...content, points: to } };
    }),
    ...points.map((point): EditRequest => ({ object: { class: "point", list: from, name: point.name }, version: point.version, content: null })),
  ];
}
