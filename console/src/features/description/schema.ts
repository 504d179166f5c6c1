import type { Content } from "../../api/client";

/** How a value is entered. */
export type Entry =
  | { kind: "text"; hasLines: boolean }
  | { kind: "secret"; hasLines: boolean }
  | { kind: "number"; isWhole: boolean; unit: string }
  | { kind: "switch" }
  | { kind: "choice"; options: { word: string; help?: string }[] }
  | { kind: "reference"; to: "link" | "rate" };

/** One field of a form, made from one property of a schema. */
export interface FormField {
  key: string;
  label: string;
  help: string;
  isRequired: boolean;
  isAdvanced: boolean;
  /** Whether it needs the width of two. */
  isWide: boolean;
  /** Which types of values it is for; empty for all. */
  of: string;
  /** What it is when nothing is said, as text. */
  fallback: string;
  entry: Entry;
}

type Json = Record<string, unknown>;

const isObject = (value: unknown): value is Json => typeof value === "object" && value !== null && !Array.isArray(value);
const text = (value: unknown): string => (typeof value === "string" ? value : "");

/** The fields of an object's form, in the order of its schema. What the schema fixes to one word is no field. */
export function fieldsOf(schema: unknown): FormField[] {
  if (!isObject(schema) || !isObject(schema.properties)) return [];
  const definitions = isObject(schema.$defs) ? schema.$defs : {};
  const required = Array.isArray(schema.required) ? schema.required : [];
  return Object.entries(schema.properties).flatMap(([key, property]) => {
    if (!isObject(property) || "const" in property) return [];
    return {
      key,
      label: labelOf(key),
      help: text(property.description).replace(/\s*\n\s*/g, " ").replaceAll("`", ""),
      isRequired: required.includes(key),
      isAdvanced: property["x-advanced"] === true,
      isWide: property["x-wide"] === true,
      of: text(property["x-for"]),
      fallback: shown(property.default),
      entry: entryOf(property, definitions),
    };
  });
}

/** Whether an object can have a field: what is for numbers is nothing for a text. One that is set all the same is shown. */
export function takes(field: FormField, content: Content): boolean {
  if (field.of === "" || field.key in content) return true;
  const type = shown(content.type);
  if (type === "" || type === "auto") return true;
  const isBit = type === "bool";
  const isNumber = /^(u?int|float|bcd)\d+$/.test(type);
  if (field.of === "bits") return isBit || /\.\d+$/.test(shown(content.address));
  return isNumber && (field.of !== "whole-numbers" || !type.startsWith("float"));
}

/** `max-registers` is "Max registers". */
export function labelOf(key: string): string {
  const words = key.replaceAll("-", " ").replace(/\b(url|ca|mqtt)\b/, (word) => word.toUpperCase()).replace(/\bqos\b/, "QoS");
  return words.charAt(0).toUpperCase() + words.slice(1);
}

function entryOf(property: Json, definitions: Json): Entry {
  const refers = property["x-refers"];
  if (refers === "link" || refers === "rate") return { kind: "reference", to: refers };
  const options = optionsOf(property, definitions);
  if (options.length > 0) return { kind: "choice", options };
  const types = Array.isArray(property.type) ? property.type : [property.type];
  const hasLines = property["x-lines"] === true;
  if (property.format === "secret") return { kind: "secret", hasLines };
  if (types.includes("boolean")) return { kind: "switch" };
  if (types.includes("integer") || types.includes("number")) {
    return { kind: "number", isWhole: types.includes("integer"), unit: text(property["x-unit"]) };
  }
  return { kind: "text", hasLines };
}

/** The words to choose from: of an enumeration, or of one that is defined elsewhere in the schema. */
function optionsOf(property: Json, definitions: Json): { word: string; help?: string }[] {
  const name = text(property.$ref).replace("#/$defs/", "");
  const definition = isObject(definitions[name]) ? definitions[name] : property;
  if (Array.isArray(definition.enum)) return definition.enum.map((word) => ({ word: text(word) }));
  if (!Array.isArray(definition.oneOf)) return [];
  return definition.oneOf
    .filter(isObject)
    .filter((choice) => "const" in choice)
    .map((choice) => ({ word: text(choice.const), help: text(choice.description) }));
}

/** Where a link leads: a host, or the path of a serial port. */
export const targetOf = (link: Content): string => shown(link.url ?? link.host ?? link["device-path"]);

/** A value as its field shows it. */
export function shown(value: unknown): string {
  return value === null || value === undefined ? "" : String(value);
}

/**
 * What was typed into a field, as the value of its key; undefined leaves the key out. What is no number stays text, so
 * that the check can say so and nothing typed is lost.
 */
export function valueOf(typed: string, entry: Entry): unknown {
  if (typed === "") return undefined;
  if (entry.kind === "switch") return typed === "true" || (typed === "false" ? false : typed);
  if (entry.kind !== "number") return typed;
  const parsed = Number(typed.replace(",", "."));
  return Number.isFinite(parsed) && typed.trim() !== "" ? parsed : typed;
}

/** An object with one key set, or without it. */
export function withKey(content: Content, key: string, value: unknown): Content {
  const { [key]: _, ...rest } = content;
  return value === undefined ? rest : { ...content, [key]: value };
}
