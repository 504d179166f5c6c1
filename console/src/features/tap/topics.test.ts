import { expect, test } from "vitest";
import { rowsOf, type TapMessage, type TopicFacts, withMessage } from "./topics";

test("topics stand as a tree, and levels without a branch in one line", () => {
  const rows = rowsOf(["spBv1.0/alderfen/DDATA/works-1/pump", "spBv1.0/alderfen/DDATA/works-1/chp-1", "spBv1.0/alderfen/NBIRTH/works-1", "a/b", "a"]);
  expect(rows.map((row) => `${" ".repeat(row.depth)}${row.label}${row.topic ? " *" : ""}`)).toEqual([
    "a *",
    " b *",
    "spBv1.0/alderfen",
    " DDATA/works-1",
    "  chp-1 *",
    "  pump *",
    " NBIRTH/works-1 *",
  ]);
  expect(rows.at(-2)?.path).toBe("spBv1.0/alderfen/DDATA/works-1/pump");
});

test("messages are counted by topic", () => {
  const message = (at: number, bytes: number): TapMessage => ({ at, topic: "t", type: "", bytes, metrics: [], retained: false });
  let topics: ReadonlyMap<string, TopicFacts> = new Map();
  topics = withMessage(withMessage(topics, message(1000, 10)), message(3000, 30));
  expect(topics.get("t")).toMatchObject({ count: 2, bytes: 40, since: 1000, last: { at: 3000 } });
});
