import { screen, within } from "@testing-library/react";
import { afterEach, expect, test } from "vitest";
import type { Need, Status } from "../../api/client";
import { clear, show as showPage, status } from "../../testing/service";
import { OverviewPage } from "./OverviewPage";

const show = (told: Status) => showPage(<OverviewPage />, "/", {}, told);

afterEach(clear);

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

test("what needs a person is one list for all gateways, with the way there and what to do", async () => {
  const need = (urgency: Need["urgency"], kind: string, name: string, since?: number): Need => ({ urgency, gateway: "alderfen-1", kind, name, what: `${name} is away`, since: since ?? null, action: "Look at it." });
  show(
    status((told) => {
      told.needs = [need("losing", "uplink", "cloud", told.at - 330_000), need("broken", "device", "mixer"), need("doubtful", "device", "analyser")];
    }),
  );
  const list = await screen.findByRole("region", { name: "What needs a person" });
  expect(within(list).getByRole("heading").textContent).toBe("3 things need a person");
  const lines = within(list).getAllByRole("listitem").map((line) => line.textContent);
  expect(lines[0]).toBe("losing valuesuplink cloud: cloud is awayLook at it.for 5 min");
  expect(within(list).getAllByRole("link").map((link) => link.getAttribute("href"))).toEqual([
    "/gateways?gateway=alderfen-1&open=uplink%3Acloud",
    "/devices?gateway=alderfen-1&open=mixer&tab=line",
    "/points?device=analyser&quality=not-good",
  ]);
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
