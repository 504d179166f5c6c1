import { expect, test } from "vitest";
import document from "../../../openapi.json";
import { callsOf, schemasOf } from "./document";

test("every call of the service's own document is read with its parts", () => {
  const calls = callsOf(document);
  expect(calls.length).toBeGreaterThan(15);
  expect(calls.every((call) => call.summary !== "" && call.group !== "" && call.answers.length > 0)).toBe(true);
  const detail = calls.find((call) => call.path === "/api/v1/points/{gateway}/{device}/{point}");
  expect(detail?.parameters.map((one) => one.name)).toEqual(["gateway", "device", "point"]);
  expect(calls.find((call) => call.path === "/api/v1/points")?.answers[0]).toEqual({ status: "200", body: "list of PointView" });
  expect(calls.find((call) => call.method === "POST" && call.path === "/api/v1/session")?.body).toBe("Credentials");
});

test("bodies list their fields with types and meanings", () => {
  const problem = schemasOf(document).find((schema) => schema.name === "ProblemDetails");
  expect(problem?.fields.map((field) => field.name).sort()).toEqual(["conflict", "detail", "frames", "problems", "status", "title", "type"]);
  expect(problem?.fields.every((field) => field.text !== "")).toBe(true);
});

test("what is no document has no calls", () => {
  for (const nothing of [undefined, null, 5, "text", [], { paths: 7 }]) {
    expect(callsOf(nothing)).toEqual([]);
    expect(schemasOf(nothing)).toEqual([]);
  }
});
