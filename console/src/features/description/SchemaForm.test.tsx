import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { useState } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test } from "vitest";
import type { Content, Problem } from "../../api/client";
import { SchemaForm, STORED } from "./SchemaForm";
import { fieldsOf } from "./schema";

const SCHEMA = {
  properties: {
    name: { type: "string", format: "name", description: "Its name." },
    protocol: { const: "modbus-tcp" },
    scale: { type: "number", default: 1, description: "Engineering value = `raw` × scale." },
    port: { type: "integer", default: 502, minimum: 1, "x-unit": "baud" },
    order: { $ref: "#/$defs/Order", default: "ABCD" },
    rate: { type: "string", "x-refers": "rate" },
    password: { type: ["string", "null"], format: "secret" },
    key: { type: ["string", "null"], format: "secret", "x-lines": true },
    pause: { type: ["string", "null"], "x-advanced": true },
  },
  required: ["name", "rate"],
  $defs: { Order: { oneOf: [{ const: "ABCD", description: "As it reads." }, { const: "CDAB" }] } },
};

let last: Content = {};

function Form({ start, problems = [] }: { start: Content; problems?: Problem[] }) {
  const [content, setContent] = useState(start);
  last = content;
  return (
    <MemoryRouter initialEntries={["/links#order"]}>
      <SchemaForm schema={SCHEMA} content={content} onChange={setContent} problems={problems} names={{ link: [], rate: ["fast", "slow"] }} />
    </MemoryRouter>
  );
}

const input = (label: string) => screen.getByLabelText<HTMLInputElement>(new RegExp(`^${label}`));
const type = (label: string, text: string) => fireEvent.change(input(label), { target: { value: text } });

afterEach(cleanup);

test("a schema says everything that its form needs", () => {
  const fields = fieldsOf(SCHEMA);
  expect(fields.map((field) => field.key)).toEqual(["name", "scale", "port", "order", "rate", "password", "key", "pause"]);
  expect(fields.filter((field) => field.isRequired).map((field) => field.key)).toEqual(["name", "rate"]);
  expect(fields.find((field) => field.key === "scale")).toMatchObject({ label: "Scale", fallback: "1", help: "Engineering value = raw × scale." });
  expect(fields.find((field) => field.key === "order")?.entry).toEqual({ kind: "choice", options: [{ word: "ABCD", help: "As it reads." }, { word: "CDAB", help: "" }] });
});

test("numbers are typed digit by digit and nonsense is kept for the check to find", () => {
  render(<Form start={{}} />);
  for (const text of ["0", "0.", "0.0", "0.01"]) {
    type("Scale", text);
    expect(input("Scale").value).toBe(text);
  }
  expect(last.scale).toBe(0.01);
  type("Scale", "1,5");
  expect(last.scale).toBe(1.5);
  type("Scale", "many");
  expect(last.scale).toBe("many");
  type("Scale", "");
  expect(last).toEqual({});
});

test("a link to a field leads to it", () => {
  render(<Form start={{}} />);
  expect(document.activeElement).toBe(screen.getByLabelText(/^Order/));
});

test("references offer the names there are, and choices their words", () => {
  render(<Form start={{ rate: "gone" }} />);
  const options = (label: string) => [...screen.getByLabelText<HTMLSelectElement>(new RegExp(`^${label}`)).options].map((option) => option.text);
  expect(options("Rate")).toEqual(["Choose", "fast", "slow", "gone"]);
  expect(options("Order")).toEqual(["ABCD (default)", "ABCD", "CDAB"]);
  type("Rate", "slow");
  expect(last.rate).toBe("slow");
});

test("a stored secret is not shown and stays unless another one is typed", () => {
  render(<Form start={{ password: STORED }} />);
  expect(input("Password").value).toBe("");
  expect(input("Password").placeholder).toContain("Stored");
  type("Password", "heron");
  expect(last.password).toBe("heron");
});

test("what is wrong with a field stands at it, and an advanced one with a fault is not hidden", () => {
  const problem: Problem = {
    file: "", line: 0, column: 0, object: 'link "bus"', message: 'pause is "0s"', expected: "a span", severity: "mistake", field: "pause",
  };
  render(<Form start={{ pause: "0s" }} problems={[problem]} />);
  expect(input("Pause").getAttribute("aria-invalid")).toBe("true");
  expect(screen.getByText(/pause is "0s"; expected a span/)).toBeTruthy();
  expect(screen.getByText("Advanced").closest("details")?.open).toBe(true);
});

test("a key is pasted with its lines, taken from a file, and not shown once it is stored", async () => {
  render(<Form start={{ key: STORED }} />);
  const key = screen.getByLabelText<HTMLTextAreaElement>("Key");
  expect([key.value, key.placeholder]).toEqual(["", "Stored; paste to replace it"]);
  fireEvent.change(key, { target: { value: "-----BEGIN\nEND-----\n" } });
  expect(last.key).toBe("-----BEGIN\nEND-----\n");
  const file = new File(["of the\nfile\n"], "works-1.key");
  fireEvent.change(screen.getByLabelText("Key from a file"), { target: { files: [file] } });
  await waitFor(() => expect(last.key).toBe("of the\nfile\n"));
});
