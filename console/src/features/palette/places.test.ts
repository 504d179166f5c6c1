import { expect, test } from "vitest";
import type { GatewayView, PointView } from "../../api/client";
import { placesOf, select } from "./places";

const gateway: GatewayView = { name: "heat", title: "Heat network", running: true, version: 1, edited: false, changed_by: "", changed_at: 0 };
const point = { id: "heat/pump/change-over", device: "pump", name: "change-over", title: "" } as PointView;

test("what starts with the word comes first, and everything found leads somewhere", () => {
  const places = placesOf([], [gateway], [point], true);
  const found = select(places, "ch");
  expect(found.slice(0, 2).map((place) => place.label)).toEqual(["Changes", "change-over"]);
  expect(select(places, "heat").map((place) => place.to)).toEqual(["/gateways?gateway=heat"]);
  expect(select(places, "zebra")).toEqual([]);
  expect(select(placesOf([], [], [], false), "activate").map((place) => place.what)).toEqual(["page"]);
  expect(found[1]?.to).toBe("/points?point=heat%2Fpump%2Fchange-over");
});
