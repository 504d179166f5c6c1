import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

/** The API, typed by the service's own OpenAPI document. */
export const api = createClient<paths>();

export type Status = components["schemas"]["Status"];
export type GatewayStatus = components["schemas"]["GatewayStatus"];
export type LinkStatus = components["schemas"]["LinkStatus"];
export type DeviceStatus = components["schemas"]["DeviceStatus"];
export type UplinkStatus = components["schemas"]["UplinkStatus"];
export type PointView = components["schemas"]["PointView"];
export type PointDetail = components["schemas"]["PointDetail"];
export type ReadingView = components["schemas"]["ReadingView"];
export type SignedIn = components["schemas"]["SignedInView"];

/** A failure as the service explains it (RFC 9457), or as the network leaves it. */
export class ApiFailure extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

interface Outcome<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** Gives the data of a call, or throws what went wrong in words. */
export async function dataOf<T>(call: Promise<Outcome<T>>): Promise<T> {
  let outcome: Outcome<T>;
  try {
    outcome = await call;
  } catch {
    throw new ApiFailure(0, "The service does not answer.");
  }
  if (outcome.response.ok) {
    // 204 has no body; callers that expect one get what the document promises.
    return outcome.data as T;
  }
  throw new ApiFailure(outcome.response.status, detailOf(outcome.error) ?? `The service answered ${outcome.response.status}.`);
}

function detailOf(error: unknown): string | undefined {
  if (typeof error === "object" && error !== null && "detail" in error && typeof error.detail === "string") {
    return error.detail;
  }
  return undefined;
}
