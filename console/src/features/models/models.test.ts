import { expect, it } from "vitest";
import { missingRates, pathOf } from "./models";

it("tells the rates that a gateway lacks, each once", () => {
  const text = "name,address,rate\nflow,input:0,normal\nenergy,input:2,slow\nlevel,input:4,slow\n";
  expect(missingRates({ text }, ["normal"])).toEqual(["slow"]);
  expect(missingRates({ text }, ["normal", "slow"])).toEqual([]);
  expect(pathOf({ name: "heat-meter" })).toBe("models/heat-meter.csv");
});
