import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

/** The API, typed by the service's own OpenAPI document. */
export const api = createClient<paths>();

api.use({
  onError({ request }) {
    return request.method === "GET" ? undefined : new ApiFailure(0, "The service does not answer. What you entered is kept: try again when it is back.");
  },
});

export type Status = components["schemas"]["Status"];
export type GatewayStatus = components["schemas"]["GatewayStatus"];
export type LinkStatus = components["schemas"]["LinkStatus"];
export type DeviceStatus = components["schemas"]["DeviceStatus"];
export type UplinkStatus = components["schemas"]["UplinkStatus"];
export type PointView = components["schemas"]["PointView"];
export type PointDetail = components["schemas"]["PointDetail"];
export type ReadingView = components["schemas"]["ReadingView"];
export type SignedIn = components["schemas"]["SignedInView"];
export type GatewayView = components["schemas"]["GatewayView"];
export type DraftView = components["schemas"]["DraftView"];
export type ObjectView = components["schemas"]["ObjectView"];
export type ObjectRef = components["schemas"]["ObjectRef"];
export type ObjectClass = components["schemas"]["ObjectClass"];
export type ListView = components["schemas"]["ListView"];
export type EditRequest = components["schemas"]["EditRequest"];
export type CheckResult = components["schemas"]["CheckResult"];
export type Problem = components["schemas"]["Problem"];
export type Difference = components["schemas"]["DifferenceView"];
export type ObjectChange = components["schemas"]["ObjectChange"];
export type PartChange = components["schemas"]["PartChange"];
export type Outcome = components["schemas"]["Outcome"];
export type RevisionView = components["schemas"]["RevisionView"];
export type Forms = components["schemas"]["Forms"];
export type PersonView = components["schemas"]["PersonView"];
export type TokenView = components["schemas"]["TokenView"];
export type AuditView = components["schemas"]["AuditView"];
export type DeviceAct = components["schemas"]["DeviceAct"];
export type OutageView = components["schemas"]["OutageView"];
export type LoopSheet = components["schemas"]["LoopSheet"];
export type LoopLine = components["schemas"]["LoopLine"];
export type Need = components["schemas"]["Need"];
export type EventView = components["schemas"]["EventView"];
export type TrialReading = components["schemas"]["TrialReading"];
export type ImportView = components["schemas"]["ImportView"];
export type ModelView = components["schemas"]["ModelView"];
export type WriteOutcome = components["schemas"]["WriteOutcome"];
export type FrameView = components["schemas"]["FrameView"];
export type RequestView = components["schemas"]["RequestView"];
export type LinkStatistics = components["schemas"]["LinkStatistics"];
export type CountsView = components["schemas"]["CountsView"];
export type HistogramView = components["schemas"]["HistogramView"];
export type Offer = components["schemas"]["Offer"];
export type OfferEvent = components["schemas"]["OfferEvent"];
export type OfferSource = components["schemas"]["OfferSource"];
export type OffersRequest = components["schemas"]["OffersRequest"];
export type CompareRequest = components["schemas"]["CompareRequest"];
export type Sibling = components["schemas"]["Sibling"];
export type OffersImport = components["schemas"]["OffersImport"];
export type NameRule = components["schemas"]["NameRule"];
export type Conflict = components["schemas"]["ConflictView"];
export type WaitingLoss = components["schemas"]["WaitingLoss"];
export type Keeping = components["schemas"]["Keeping"];
export type Editor = components["schemas"]["Editor"];
/** What an object holds: the keys of the files. */
export type Content = Record<string, unknown>;

/** A failure as the service explains it (RFC 9457), or as the network leaves it. */
export class ApiFailure extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly problems: Problem[] = [],
    readonly conflict: Conflict | null = null,
    /** What was sent and received, when a device did not give what it was asked for. */
    readonly frames: FrameView[] = [],
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** Gives the data of a call, or throws what went wrong in words. */
export async function dataOf<T>(call: Promise<Answer<T>>): Promise<T> {
  let outcome: Answer<T>;
  try {
    outcome = await call;
  } catch (error) {
    throw error instanceof ApiFailure ? error : new ApiFailure(0, "The service does not answer.");
  }
  if (outcome.response.ok) {
    // 204 has no body; callers that expect one get what the document promises.
    return outcome.data as T;
  }
  const details = detailsOf(outcome.error);
  const message = details?.detail ?? `The service answered ${outcome.response.status}.`;
  throw new ApiFailure(outcome.response.status, message, details?.problems, details?.conflict, details?.frames);
}

/** The problem details of a refusal, when it is one of the service's own. */
function detailsOf(error: unknown): components["schemas"]["ProblemDetails"] | undefined {
  const isDetails = typeof error === "object" && error !== null && "detail" in error && typeof error.detail === "string";
  return isDetails ? (error as components["schemas"]["ProblemDetails"]) : undefined;
}
