import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type { Status } from "../../api/client";
import { LiveProvider } from "../../live/live";
import { OverviewPage } from "./OverviewPage";

/** A stream that tells one status as soon as somebody listens. */
function streamOf(status: Status) {
  return class {
    onerror: (() => void) | null = null;
    addEventListener(name: string, listen: (event: { data: string }) => void) {
      if (name === "status") setTimeout(() => listen({ data: JSON.stringify(status) }), 0);
    }
    close() {}
  };
}

function status(change: (status: Status) => void = () => {}): Status {
  const at = 100_000;
  const device = { name: "gas-analyser", title: "Gas analyser", state: "up" as const, since: at - 5000, points: 10, requests: 5 };
  const link = {
    name: "process-bus",
    protocol: "modbus-tcp",
    target: "10.20.0.11:502",
    state: "up" as const,
    since: at - 61_000,
    requests: 100,
    answers: 100,
    timeouts: 0,
    refusals: 0,
    requests_per_second: 12.34,
    lateness_ms: 0,
    devices: [device],
  };
  const uplink = {
    name: "cloud",
    url: "mqtt://broker.example",
    node: "alderfen/works-1",
    state: "online" as const,
    since: at - 61_000,
    messages: 1200,
    samples_delivered: 1234,
    samples_per_second: 5.6,
    kind: "sparkplug",
    host_in_doubt: false,
    buffer: {
      waiting: 2,
      unsettled: 0, durable: 0,
      bytes: 0,
      lost: 0,
      is_full: false,
      came: 1236,
      in_per_second: 5.6,
      out_per_second: 5.6,
    },
  };
  const told: Status = {
    at,
    version: "0.1.0",
    database: { up: true, since: at },
    gateways: [
      {
        name: "alderfen-1",
        title: "Alderfen biogas works",
        revision: 3, activated_at: 0,
        since: at - 61_000,
        points: 10,
        points_good: 10,
        links: [link],
        uplinks: [uplink],
      },
    ],
  };
  change(told);
  return told;
}

function show(told: Status) {
  vi.stubGlobal("EventSource", streamOf(told));
  render(
    <MemoryRouter>
      <LiveProvider>
        <OverviewPage />
      </LiveProvider>
    </MemoryRouter>,
  );
}

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

test("before anything is known, it says that it is loading", () => {
  show(status());
  expect(screen.getByRole("status").textContent).toContain("Loading");
});

test("a gateway that runs is told calmly, from field to broker", async () => {
  show(status());
  expect(await screen.findByText("Everything runs.")).toBeTruthy();
  expect(screen.getByText("12.3 requests/s")).toBeTruthy();
  expect(screen.getByText("5.6 samples/s")).toBeTruthy();
  expect(screen.getByText("10 of 10")).toBeTruthy();
  expect(screen.getByText("1,234")).toBeTruthy();
  expect(screen.queryByText(/not good/)).toBeNull();
});

test("nobody is told that everything runs while a point is not good", async () => {
  show(status((told) => (told.gateways[0] ? (told.gateways[0].points_good = 9) : null)));
  expect(await screen.findByText("1 point not good")).toBeTruthy();
  expect(screen.queryByText("Everything runs.")).toBeNull();
});

test("what does not run says since when and why, and the way is broken", async () => {
  show(
    status((told) => {
      const gateway = told.gateways[0]!;
      gateway.points_good = 0;
      const device = gateway.links[0]!.devices[0]!;
      Object.assign(device, { state: "silent", since: told.at - 90_000, last_error: "unit 3: no answer within 1s", last_error_at: told.at - 4000 });
      Object.assign(gateway.uplinks[0]!, { state: "offline", last_error: "connection refused", buffer: { ...gateway.uplinks[0]!.buffer, waiting: 77 } });
    }),
  );
  expect(await screen.findByText("2 parts not running")).toBeTruthy();
  expect(screen.getByText("silent")).toBeTruthy();
  expect(screen.getByText(/for 90 s/)).toBeTruthy();
  expect(screen.getByText(/unit 3: no answer within 1s/)).toBeTruthy();
  expect(screen.getByText(/connection refused/)).toBeTruthy();
  expect(screen.getByText("nothing passes")).toBeTruthy();
  expect(screen.getByRole("link", { name: /not good/ }).getAttribute("href")).toBe("/points?quality=not-good");
});

test("without a gateway it says what to do", async () => {
  show(status((told) => (told.gateways = [])));
  expect(await screen.findByText("No gateway runs")).toBeTruthy();
  expect(screen.getByText(/interlex config init/)).toBeTruthy();
});
