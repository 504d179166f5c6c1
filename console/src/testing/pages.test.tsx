import { screen, waitFor } from "@testing-library/react";
import type { ReactElement } from "react";
import { afterEach, describe, expect, test } from "vitest";
import { AuditPage } from "../features/audit/AuditPage";
import { BufferPage } from "../features/buffer/BufferPage";
import { ChangesPage } from "../features/changes/ChangesPage";
import { DevicesPage } from "../features/devices/DevicesPage";
import { EventsPage } from "../features/events/EventsPage";
import { FramesPage } from "../features/frames/FramesPage";
import { GatewaysPage } from "../features/gateways/GatewaysPage";
import { LinksPage } from "../features/links/LinksPage";
import { ModelsPage } from "../features/models/ModelsPage";
import { PeoplePage } from "../features/people/PeoplePage";
import { PointsPage } from "../features/points/PointsPage";
import { ReferencePage } from "../features/reference/ReferencePage";
import { RevisionsPage } from "../features/revisions/RevisionsPage";
import { TapPage } from "../features/tap/TapPage";
import { type Answer, clear, DESCRIPTION, EMPTY_DRAFT, type Service, show, status } from "./service";

afterEach(clear);

const AWAY: Answer = { status: 503, detail: "the database is away" };
const nothing = (changes: Service): Service => ({ ...DESCRIPTION, ...changes });
const NO_POINTS = { total: 0, all: 0, not_good: 0, at: null, rows: [] };
const difference = { version: 7, objects: [], links: [], uplinks: [], reordered: false, text: "" };

interface Case {
  name: string;
  page: ReactElement;
  /** The call that the page is about, and what it says when all is well. */
  call: string;
  all: Service;
  filled: string | RegExp;
  /** What it loads. */
  loading: RegExp;
  /** What it says when there is nothing, and what is to be done about it. */
  empty: { answers: Service; says: string | RegExp };
}

const CASES: Case[] = [
  {
    name: "Gateways",
    page: <GatewaysPage />,
    call: "gateways",
    all: nothing({}),
    filled: "alderfen-1",
    loading: /Loading gateways/,
    empty: { answers: { gateways: { json: [] } }, says: /gateway/i },
  },
  {
    name: "Links",
    page: <LinksPage />,
    call: "gateways/alderfen-1/draft",
    all: nothing({}),
    filled: "process-bus",
    loading: /Loading the draft of alderfen-1/,
    empty: { answers: nothing({ "gateways/alderfen-1/draft": { json: EMPTY_DRAFT } }), says: "No link is described" },
  },
  {
    name: "Devices",
    page: <DevicesPage />,
    call: "gateways/alderfen-1/draft",
    all: nothing({}),
    filled: "unit 3",
    loading: /Loading the draft of alderfen-1/,
    empty: { answers: nothing({ "gateways/alderfen-1/draft": { json: EMPTY_DRAFT } }), says: "No device is described" },
  },
  {
    name: "Models",
    page: <ModelsPage />,
    call: "models",
    all: nothing({ models: { json: [{ name: "heat-meter", title: "Heat meter", parameters: "unit", text: "name,rate\nflow,normal\n" }] } }),
    filled: "heat-meter",
    loading: /Loading models/,
    empty: { answers: nothing({ models: { json: [] }, "gateways/alderfen-1/draft": { json: EMPTY_DRAFT } }), says: "No point list yet" },
  },
  {
    name: "Changes",
    page: <ChangesPage />,
    call: "gateways/alderfen-1/difference",
    all: nothing({ "gateways/alderfen-1/difference": { json: { ...difference, objects: [{ object: { class: "rate", name: "fast" }, change: "added", words: "rate fast added: 1s" }] } } }),
    filled: /rate fast added: 1s|fast/,
    loading: /Loading what differs/,
    empty: { answers: nothing({ "gateways/alderfen-1/difference": { json: difference } }), says: /nothing|Nothing/ },
  },
  {
    name: "Revisions",
    page: <RevisionsPage />,
    call: "gateways/alderfen-1/revisions",
    all: nothing({ "gateways/alderfen-1/revisions": { json: [{ number: 3, author: "ada", activated_at: 1_780_000_000_000, note: "the new meter" }] } }),
    filled: "the new meter",
    loading: /Loading revisions/,
    empty: { answers: nothing({ "gateways/alderfen-1/revisions": { json: [] } }), says: "Nothing was activated yet" },
  },
  {
    name: "Points",
    page: <PointsPage />,
    call: "points/window",
    all: { "points/window": { json: NO_POINTS } },
    filled: "No points are described",
    loading: /Loading points/,
    empty: { answers: { "points/window": { json: NO_POINTS } }, says: "No points are described" },
  },
  {
    name: "Events",
    page: <EventsPage />,
    call: "gateways/alderfen-1/events?states=true&limit=200",
    all: {
      gateways: { json: [{ name: "alderfen-1", title: "", running: true }] },
      "gateways/alderfen-1/events?states=true&limit=200": {
        json: [{ id: 1, at: 1_780_000_000_000, arrived: 1_780_000_000_009, time: "synchronized", device: "grid", address: "double-bit:0", state: "tripped", flags: "online" }],
      },
    },
    filled: "tripped",
    loading: /Loading events/,
    empty: {
      answers: { gateways: { json: [{ name: "alderfen-1", title: "", running: true }] }, "gateways/alderfen-1/events?states=true&limit=200": { json: [] } },
      says: "No event fits the filter",
    },
  },
  {
    name: "Frames",
    page: <FramesPage />,
    call: "gateways/alderfen-1/links/process-bus/frames",
    all: { "gateways/alderfen-1/links/process-bus/frames": { json: [] } },
    filled: "Nothing is recorded yet.",
    loading: /Loading frames/,
    empty: { answers: { "gateways/alderfen-1/links/process-bus/frames": { json: [] } }, says: "Nothing is recorded yet." },
  },
  {
    name: "People",
    page: <PeoplePage />,
    call: "people",
    all: { people: { json: [{ name: "grace", role: "engineer", created_at: 0 }] }, tokens: { json: [] } },
    filled: "grace",
    loading: /Loading people/,
    empty: { answers: { people: { json: [] }, tokens: { json: [] } }, says: /Add|add/ },
  },
  {
    name: "Audit",
    page: <AuditPage />,
    call: "audit",
    all: nothing({ audit: { json: [{ id: 1, at: 1_780_000_000_000, person: "grace", source: "", action: "sign-in", detail: "by password", gateway: "" }] } }),
    filled: "by password",
    loading: /Loading the audit trail/,
    empty: { answers: nothing({ audit: { json: [] } }), says: "No entry fits the filter" },
  },
];

/** The calls of a page whose main one is answered otherwise. */
const answering = (one: Case, answer: Answer): Service => ({ ...one.all, [one.call]: answer });

describe.each(CASES)("$name", (one) => {
  test("says what it loads, and shows it when it comes", async () => {
    show(one.page, "/", answering(one, "never"));
    expect((await screen.findAllByText(one.loading)).length).toBeGreaterThan(0);
    clear();
    show(one.page, "/", one.all);
    expect((await screen.findAllByText(one.filled)).length).toBeGreaterThan(0);
    expect(screen.queryByText(one.loading)).toBeNull();
  });

  test("says that there is nothing, and not that it loads", async () => {
    show(one.page, "/", one.empty.answers);
    expect((await screen.findAllByText(one.empty.says)).length).toBeGreaterThan(0);
    await waitFor(() => expect(screen.queryByText(one.loading)).toBeNull());
  });

  test("says why nothing came", async () => {
    show(one.page, "/", answering(one, AWAY));
    expect((await screen.findAllByText("the database is away")).length).toBeGreaterThan(0);
    expect(screen.getAllByRole("alert").length).toBeGreaterThan(0);
  });

  test("goes on showing what it had when the service is away", async () => {
    const page = show(one.page, "/", one.all);
    await screen.findAllByText(one.filled);
    await page.answers(answering(one, AWAY));
    expect(screen.getAllByText(one.filled).length).toBeGreaterThan(0);
  });
});

describe.each([
  { name: "Buffer", page: <BufferPage />, loading: /Loading uplinks/, empty: "No uplink runs" },
  { name: "Tap", page: <TapPage />, loading: /Loading uplinks/, empty: "No uplink runs" },
  { name: "Frames", page: <FramesPage />, loading: /Loading links/, empty: "No link runs" },
])("$name, before and without a status", ({ page, loading, empty }) => {
  test("loads until something is told", () => {
    show(page, "/", {}, null);
    expect(screen.getByText(loading)).toBeTruthy();
  });

  test("says that nothing runs", async () => {
    const told = status((told) => {
      told.gateways[0]!.links = [];
      told.gateways[0]!.uplinks = [];
    });
    show(page, "/", {}, told);
    expect(await screen.findByText(empty)).toBeTruthy();
  });
});

test("the API reference says that it loads, and why nothing came", async () => {
  show(<ReferencePage />, "/", { "openapi.json": "never" });
  expect(screen.getByText(/Loading the API/)).toBeTruthy();
  clear();
  show(<ReferencePage />, "/", { "openapi.json": AWAY });
  expect(await screen.findByText("the database is away")).toBeTruthy();
});
