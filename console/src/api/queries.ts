import { queryOptions } from "@tanstack/react-query";
import type { operations } from "./schema";
import { api, ApiFailure, dataOf, type EventView, type OutageView } from "./client";

/** Who is signed in; null when nobody is. */
export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: async () => {
    try {
      return await dataOf(api.GET("/api/v1/session"));
    } catch (error) {
      if (error instanceof ApiFailure && error.status === 401) return null;
      throw error;
    }
  },
  staleTime: 60_000,
});

export const setupQuery = queryOptions({
  queryKey: ["setup"],
  queryFn: () => dataOf(api.GET("/api/v1/setup")),
});

/** As many points as are shown one beside the other. */
export const MOST_POINTS = 1000;

/** The points of a device in the running revision, with what was read last. */
export const devicePointsQuery = (gateway: string, device: string, revision: number | undefined) =>
  queryOptions({
    queryKey: ["points", gateway, device, revision],
    queryFn: () => dataOf(api.GET("/api/v1/points", { params: { query: { gateway, device, limit: MOST_POINTS } } })),
  });

export type WindowWanted = NonNullable<operations["point_window"]["parameters"]["query"]>;

/** The rows in view of all points. What was in view is soon forgotten: there may be a million. */
export const windowQuery = (query: WindowWanted, revisions = "") =>
  queryOptions({
    queryKey: ["points", "window", revisions, query],
    queryFn: ({ signal }) => dataOf(api.GET("/api/v1/points/window", { params: { query }, signal })),
    gcTime: 30_000,
  });

/** One point, by `GATEWAY/DEVICE/POINT`. */
export const pointQuery = (id: string, revisions = "") =>
  queryOptions({
    queryKey: ["point", id, revisions],
    queryFn: () => {
      const [gateway = "", device = "", ...point] = id.split("/");
      return dataOf(api.GET("/api/v1/points/{gateway}/{device}/{point}", { params: { path: { gateway, device, point: point.join("/") } } }));
    },
    staleTime: 0,
  });

export const openapiQuery = queryOptions({
  queryKey: ["openapi"],
  queryFn: async (): Promise<unknown> => {
    const response = await fetch("/api/v1/openapi.json");
    const told: unknown = await response.json().catch(() => undefined);
    return dataOf(Promise.resolve({ response, data: told, error: told }));
  },
  staleTime: Infinity,
});

export const gatewaysQuery = queryOptions({
  queryKey: ["gateways"],
  queryFn: () => dataOf(api.GET("/api/v1/gateways")),
});

export const formsQuery = queryOptions({
  queryKey: ["forms"],
  queryFn: () => dataOf(api.GET("/api/v1/forms")),
  staleTime: Infinity,
});

export const bufferQuery = (gateway: string, uplink: string) =>
  queryOptions({
    queryKey: ["buffer", gateway, uplink],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/uplinks/{uplink}/buffer", { params: { path: { gateway, uplink } } })),
  });

export const messagesQuery = (gateway: string, uplink: string) =>
  queryOptions({
    queryKey: ["messages", gateway, uplink],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/uplinks/{uplink}/messages", { params: { path: { gateway, uplink } } })),
  });

export const publishedQuery = (gateway: string, uplink: string, device: string, point: string) =>
  queryOptions({
    queryKey: ["published", gateway, uplink, device, point],
    queryFn: () =>
      dataOf(
        api.GET("/api/v1/gateways/{gateway}/uplinks/{uplink}/published/{device}/{point}", {
          params: { path: { gateway, uplink, device, point } },
        }),
      ),
  });

export const modelsQuery = queryOptions({
  queryKey: ["models"],
  queryFn: () => dataOf(api.GET("/api/v1/models")),
  staleTime: Infinity,
});

/** Everything that an edit of a gateway may change is below this key. */
export const gatewayKey = (gateway: string) => ["gateway", gateway] as const;

export const draftQuery = (gateway: string) =>
  queryOptions({
    queryKey: [...gatewayKey(gateway), "draft"],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/draft", { params: { path: { gateway } } })),
  });

export const draftPointsQuery = (gateway: string, list: string) =>
  queryOptions({
    queryKey: [...gatewayKey(gateway), "points", list],
    queryFn: () =>
      dataOf(api.GET("/api/v1/gateways/{gateway}/draft/points", { params: { path: { gateway }, query: { list } } })),
  });

export const checkQuery = (gateway: string) =>
  queryOptions({
    queryKey: [...gatewayKey(gateway), "check"],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/draft/check", { params: { path: { gateway } } })),
  });

export const differenceQuery = (gateway: string, before = "active", after = "draft") =>
  queryOptions({
    queryKey: [...gatewayKey(gateway), "difference", before, after],
    queryFn: () =>
      dataOf(api.GET("/api/v1/gateways/{gateway}/difference", { params: { path: { gateway }, query: { before, after } } })),
  });

export const revisionsQuery = (gateway: string) =>
  queryOptions({
    queryKey: [...gatewayKey(gateway), "revisions"],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/revisions", { params: { path: { gateway } } })),
  });

export const outcomeQuery = (gateway: string) =>
  queryOptions({
    queryKey: ["outcome", gateway],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/outcome", { params: { path: { gateway } } })),
    staleTime: 0,
  });

/** How often what a link counts is looked at anew. */
const COUNTS_EVERY = 2000;

const linkKey = (gateway: string, link: string) => ["link", gateway, link] as const;

export const statisticsQuery = (gateway: string, link: string) =>
  queryOptions({
    queryKey: [...linkKey(gateway, link), "statistics"],
    queryFn: () =>
      dataOf(api.GET("/api/v1/gateways/{gateway}/links/{link}/statistics", { params: { path: { gateway, link } } })),
    refetchInterval: COUNTS_EVERY,
  });

export const requestsQuery = (gateway: string, link: string) =>
  queryOptions({
    queryKey: [...linkKey(gateway, link), "requests"],
    queryFn: () =>
      dataOf(api.GET("/api/v1/gateways/{gateway}/links/{link}/requests", { params: { path: { gateway, link } } })),
    refetchInterval: COUNTS_EVERY,
  });

export const framesQuery = (gateway: string, link: string, device: string | null, errors: boolean) =>
  queryOptions({
    queryKey: [...linkKey(gateway, link), "frames", device, errors],
    queryFn: () =>
      dataOf(
        api.GET("/api/v1/gateways/{gateway}/links/{link}/frames", {
          params: { path: { gateway, link }, query: { ...(device === null ? {} : { device }), errors } },
        }),
      ),
  });

export const peopleQuery = queryOptions({
  queryKey: ["people"],
  queryFn: () => dataOf(api.GET("/api/v1/people")),
});

export const tokensQuery = queryOptions({
  queryKey: ["tokens"],
  queryFn: () => dataOf(api.GET("/api/v1/tokens")),
});

export interface EventFilter {
  device?: string;
  point?: string;
  states?: boolean;
  from?: number;
}

export const EVENT_PAGE = 200;

/** The sequence of events of a gateway, the last one first, page by page. */
export async function eventPage(gateway: string, filter: EventFilter, behind?: EventView) {
  const query = { ...filter, ...(behind === undefined ? {} : { behind_at: behind.at, behind_id: behind.id }), limit: EVENT_PAGE };
  return dataOf(api.GET("/api/v1/gateways/{gateway}/events", { params: { path: { gateway }, query } }));
}

export interface AuditFilter {
  q?: string;
  person?: string;
  action?: string;
  gateway?: string;
  from?: number;
}

export const AUDIT_PAGE = 200;

/** Entries of the audit trail, the newest first, page by page. */
export async function auditPage(filter: AuditFilter, below?: number) {
  const query = { ...filter, ...(below === undefined ? {} : { below }), limit: AUDIT_PAGE };
  return dataOf(api.GET("/api/v1/audit", { params: { query } }));
}

/** Which outages. */
export interface OutageFilter {
  gateway?: string;
  kind?: string;
  name?: string;
  from?: number;
}

export const OUTAGE_PAGE = 200;

/** Outages, the last one first, page by page. */
export async function outagePage(filter: OutageFilter, behind?: OutageView) {
  const query = { ...filter, ...(behind ? { behind_from: behind.from, behind_id: behind.id } : {}), limit: OUTAGE_PAGE };
  return dataOf(api.GET("/api/v1/outages", { params: { query } }));
}

export const loopsQuery = (gateway: string) =>
  queryOptions({
    queryKey: ["loop-checks", gateway],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/loop-checks", { params: { path: { gateway } } })),
  });

export const loopQuery = (gateway: string, id: number) =>
  queryOptions({
    queryKey: ["loop-checks", gateway, id],
    queryFn: () => dataOf(api.GET("/api/v1/gateways/{gateway}/loop-checks/{id}", { params: { path: { gateway, id } } })),
  });
