import { queryOptions } from "@tanstack/react-query";
import { api, ApiFailure, dataOf } from "./client";

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

export const pointsQuery = queryOptions({
  queryKey: ["points"],
  queryFn: () => dataOf(api.GET("/api/v1/points")),
});

export const pointQuery = (gateway: string, device: string, point: string) =>
  queryOptions({
    queryKey: ["point", gateway, device, point],
    queryFn: () =>
      dataOf(api.GET("/api/v1/points/{gateway}/{device}/{point}", { params: { path: { gateway, device, point } } })),
    staleTime: 0,
  });

export const openapiQuery = queryOptions({
  queryKey: ["openapi"],
  queryFn: async (): Promise<unknown> => (await fetch("/api/v1/openapi.json")).json(),
  staleTime: Infinity,
});
