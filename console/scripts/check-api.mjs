// Fails when the generated types do not fit the service's OpenAPI document.
import { readFile } from "node:fs/promises";
import openapiTS, { astToString } from "openapi-typescript";

const root = new URL("..", import.meta.url);
const types = astToString(await openapiTS(new URL("openapi.json", root)));
const path = new URL("src/api/schema.d.ts", root);
if (process.argv.includes("--write")) {
  const { writeFile } = await import("node:fs/promises");
  await writeFile(path, types);
} else if ((await readFile(path, "utf8")) !== types) {
  console.error("src/api/schema.d.ts is stale; run scripts/api in the project's root");
  process.exit(1);
}
