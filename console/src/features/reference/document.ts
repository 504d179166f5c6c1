/** One call of the API as the page shows it. */
export interface Call {
  method: string;
  path: string;
  group: string;
  summary: string;
  parameters: { name: string; place: string; text: string }[];
  body: string | null;
  answers: { status: string; body: string | null }[];
}

type Json = Record<string, unknown>;

function object(of: unknown): Json {
  return typeof of === "object" && of !== null && !Array.isArray(of) ? (of as Json) : {};
}

function list(of: unknown): unknown[] {
  return Array.isArray(of) ? of : [];
}

function text(of: unknown): string {
  return typeof of === "string" ? of : "";
}

/** Reads the calls out of an OpenAPI document. */
export function callsOf(document: unknown): Call[] {
  return Object.entries(object(object(document).paths)).flatMap(([path, methods]) =>
    Object.entries(object(methods)).map(([method, call]) => callOf(path, method, object(call))),
  );
}

function callOf(path: string, method: string, call: Json): Call {
  const parameters = list(call.parameters).map(object);
  return {
    method: method.toUpperCase(),
    path,
    group: text(list(call.tags)[0]),
    summary: [text(call.summary), text(call.description)].filter(Boolean).join(" "),
    parameters: parameters.map((one) => ({ name: text(one.name), place: text(one.in), text: text(one.description) })),
    body: bodyOf(call.requestBody),
    answers: Object.entries(object(call.responses)).map(([status, answer]) => ({ status, body: bodyOf(answer) })),
  };
}

/** The name of what a body holds: a schema, a list of one, or a media type. */
function bodyOf(holder: unknown): string | null {
  const [media, content] = Object.entries(object(object(holder).content))[0] ?? [];
  if (media === undefined) return null;
  const schema = object(object(content).schema);
  const name = (reference: unknown) => text(reference).split("/").at(-1) ?? "";
  if (schema.$ref) return name(schema.$ref);
  const items = object(schema.items).$ref;
  return items ? `list of ${name(items)}` : media;
}

/** The fields of every schema. */
export function schemasOf(document: unknown): { name: string; fields: { name: string; type: string; text: string }[] }[] {
  const schemas = object(object(object(document).components).schemas);
  return Object.entries(schemas).map(([name, schema]) => ({ name, fields: fieldsOf(object(schema)) }));
}

function fieldsOf(schema: Json): { name: string; type: string; text: string }[] {
  const parts = [schema, ...list(schema.allOf).map(object)];
  return parts.flatMap((part) =>
    Object.entries(object(part.properties)).map(([name, field]) => {
      // What may be missing is a choice between the thing and null.
      const choice = list(object(field).oneOf).map(object).find((one) => one.type !== "null");
      const { type, items, $ref, description } = choice ?? object(field);
      const item = object(items).$ref ?? object(items).type;
      const word = text($ref).split("/").at(-1) || list(type).concat(type).filter((one) => typeof one === "string").join(" or ");
      return { name, type: item ? `list of ${text(item).split("/").at(-1)}` : word, text: text(description) };
    }),
  );
}
