import type { ModelView } from "../../api/client";
import { cellsOf } from "../devices/list";

/** Where the list of a model stands in a description. */
export const pathOf = (model: Pick<ModelView, "name">): string => `models/${model.name}.csv`;

/** The rates that a model names and a gateway does not have. */
export function missingRates(model: Pick<ModelView, "text">, rates: string[]): string[] {
  const [heading = [], ...rows] = cellsOf(model.text);
  const at = heading.indexOf("rate");
  return [...new Set(rows.map((row) => row[at] ?? ""))].filter((rate) => rate !== "" && !rates.includes(rate));
}
