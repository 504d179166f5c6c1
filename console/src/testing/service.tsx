import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render } from "@testing-library/react";
import type { ReactElement } from "react";
import { MemoryRouter } from "react-router";
import { vi } from "vitest";
import type { DraftView, Forms, GatewayView, LinkStatus, ObjectView, SignedIn, Status, UplinkStatus } from "../api/client";
import { LiveProvider } from "../live/live";
import { calls } from "./setup";

/** What a call is answered with: its JSON, a status with problem details, or nothing at all. */
export type Answer = { json: unknown } | { status: number; detail: string; more?: Record<string, unknown> } | "never";

/** The calls that a page makes, by their paths below /api/v1, with or without a query; those that change something with their method. */
export type Service = Record<string, Answer>;

/** Shows a page of somebody who is signed in, with a service that answers like this. */
export function show(page: ReactElement, at: string, service: Service, live: Status | null = status(), who: SignedIn = SOMEBODY) {
  const answers = { ...service };
  const sent: Sent[] = [];
  const streams: Listening[] = [];
  vi.stubGlobal("EventSource", streamOf(live, streams));
  calls.answer = async (request) => {
    const call = callOf(request);
    if (request.method !== "GET" && !call.endsWith("/presence")) sent.push({ call, body: await request.clone().json().catch(() => null) });
    return answerTo(request, call, answers);
  };
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } });
  queries.setQueryData(["session"], who);
  render(
    <QueryClientProvider client={queries}>
      <MemoryRouter initialEntries={[at]}>
        <LiveProvider>{page}</LiveProvider>
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return {
    /** What was sent to change something, in its order; that a tab is open is not. */
    sent,
    /** A stream that was opened at this path tells something. */
    async tell(path: string, name: string, data: unknown) {
      const of = await vi.waitUntil(() => streams.filter((stream) => stream.url.startsWith(path) && stream.name === name && stream.isOpen()).at(-1));
      of.listen({ data: typeof data === "string" ? data : JSON.stringify(data) });
    },
    /** From now on the service answers like this, and everything is asked anew. */
    async answers(next: Service) {
      for (const path of Object.keys(answers)) delete answers[path];
      Object.assign(answers, next);
      await queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "session" });
    },
  };
}

/** A call that changes something, and what it brings along. */
export interface Sent {
  call: string;
  // What is sent is looked into as the service would.
  body: any;
}

/** Leaves no page and no service behind; what people typed stays kept. */
export function close() {
  cleanup();
  vi.unstubAllGlobals();
}

/** Leaves no page, no service and nothing kept behind. */
export function clear() {
  close();
  localStorage.clear();
}

/** `points?gateway=g` for what is looked at, `POST points` for what changes something. */
function callOf(request: Request): string {
  const { pathname, search } = new URL(request.url);
  const path = pathname.replace("/api/v1/", "") + search;
  return request.method === "GET" ? path : `${request.method} ${path}`;
}

async function answerTo(request: Request, call: string, answers: Service): Promise<Response> {
  const path = call.replace(new URL(request.url).search, "");
  const answer = answers[call] ?? answers[path] ?? { status: 404, detail: `no answer for ${call}` };
  if (answer === "never") return new Promise(() => {});
  if ("json" in answer) return Response.json(answer.json);
  const details = { type: "about:blank", title: "Refused", status: answer.status, detail: answer.detail, ...answer.more };
  return Response.json(details, { status: answer.status });
}

/** Somebody who listens to one kind of event of a stream. */
interface Listening {
  url: string;
  name: string;
  listen: (event: { data: string }) => void;
  isOpen: () => boolean;
}

/** Streams that tell one status as soon as somebody listens, and otherwise what a test lets them tell. */
function streamOf(told: Status | null, streams: Listening[]) {
  return class {
    onerror: (() => void) | null = null;
    private isClosed = false;
    constructor(private readonly url: string) {}
    addEventListener(name: string, listen: (event: { data: string }) => void) {
      streams.push({ url: this.url, name, listen, isOpen: () => !this.isClosed });
      if (name === "status" && told) setTimeout(() => listen({ data: JSON.stringify(told) }), 0);
    }
    close() {
      this.isClosed = true;
    }
  };
}

export const SOMEBODY: SignedIn = { name: "ada", role: "administrator" };
/** When all of it is told. */
const AT = 1_780_000_000_000;

export function link(): LinkStatus {
  return {
    name: "process-bus",
    protocol: "modbus-tcp",
    target: "10.20.0.11:502",
    state: "up",
    since: AT - 61_000,
    requests: 100,
    answers: 100,
    timeouts: 0,
    refusals: 0,
    requests_per_second: 12.34,
    lateness_ms: 0,
    secured: false,
    devices: [{ name: "gas-analyser", title: "Gas analyser", state: "up", since: AT - 5000, points: 10, points_good: 10, requests: 5 }],
  };
}

export function uplink(): UplinkStatus {
  return {
    name: "cloud",
    url: "mqtt://broker.example",
    node: "alderfen/works-1",
    state: "online",
    since: AT - 61_000,
    messages: 1200,
    samples_delivered: 1234,
    counted_since: AT - 86_400_000,
    samples_per_second: 5.6,
    kind: "sparkplug",
    host_in_doubt: false,
    buffer: { waiting: 2, unsettled: 0, durable: 0, bytes: 0, lost: 0, is_full: false, came: 1236, in_per_second: 5.6, out_per_second: 5.6 },
  };
}

/** One gateway that runs, but for what is changed of it. */
export function status(change: (status: Status) => void = () => {}): Status {
  const told: Status = {
    at: AT,
    version: "0.1.0",
    database: { up: true, since: AT },
    needs: [],
    gateways: [
      {
        name: "alderfen-1",
        title: "Alderfen biogas works",
        revision: 3,
        activated_at: 0,
        since: AT - 61_000,
        points: 10,
        points_good: 10,
        links: [link()],
        uplinks: [uplink()],
      },
    ],
  };
  change(told);
  return told;
}

export const GATEWAYS: GatewayView[] = [
  { name: "alderfen-1", title: "Alderfen biogas works", active: 3, version: 7, changed_at: AT, changed_by: "ada", edited: false, running: true },
];

export const FORMS: Forms = {
  gateway: schema("name"),
  rate: schema("name", "period"),
  links: [
    {
      word: "modbus-tcp",
      title: "Modbus TCP",
      protocol: "Modbus",
      schema: schema("name", "host"),
      device: schema("name", "link", "unit"),
      point: schema("name", "address", "type", "rate"),
      sources: [{ word: "units", title: "Which units answer", of_device: false, form: schema("first") }],
      addresses: "holding:N",
    },
  ],
  uplinks: [{ word: "sparkplug", title: "Sparkplug B", protocol: "", schema: schema("name", "url"), device: null, point: null, sources: [], addresses: "" }],
  point: schema("name", "address", "type", "rate"),
};

function schema(...keys: string[]) {
  return { type: "object", properties: Object.fromEntries(keys.map((key) => [key, { type: "string" }])), required: ["name"] };
}

function object(of: ObjectView["class"], name: string, content: Record<string, unknown>): ObjectView {
  return { class: of, list: "", name, content: { name, ...content }, version: "1" } as ObjectView;
}

/** A draft with nothing in it but the gateway. */
export const EMPTY_DRAFT = { gateway: "alderfen-1", version: 7, active: 3, changes: 0, objects: [object("gateway", "alderfen-1", {})], lists: [] } as unknown as DraftView;

/** A draft with one of each. */
export const DRAFT: DraftView = {
  ...EMPTY_DRAFT,
  objects: [
    ...EMPTY_DRAFT.objects,
    object("rate", "normal", { period: "2s" }),
    object("link", "process-bus", { protocol: "modbus-tcp", host: "10.20.0.11" }),
    object("device", "gas-analyser", { link: "process-bus", unit: 3, points: "points/gas-analyser.csv" }),
    object("uplink", "cloud", { kind: "sparkplug", url: "mqtt://broker.example" }),
  ],
  lists: [{ path: "points/gas-analyser.csv", points: 10, devices: ["gas-analyser"] }],
};

/** What every page that edits asks for. */
export const DESCRIPTION: Service = {
  gateways: { json: GATEWAYS },
  forms: { json: FORMS },
  "gateways/alderfen-1/draft": { json: DRAFT },
  "gateways/alderfen-1/draft/check": { json: { version: 7, mistakes: 0, problems: [] } },
};
