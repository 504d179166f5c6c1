import { fireEvent, screen, waitFor } from "@testing-library/react";
import { useLocation } from "react-router";
import { afterEach, describe, expect, test, vi } from "vitest";
import type { AuditView, PointView, Status } from "../api/client";
import { Shell } from "../components/Shell";
import { AuditPage, csv } from "../features/audit/AuditPage";
import { BufferPage } from "../features/buffer/BufferPage";
import { OutcomePanel } from "../features/changes/OutcomePanel";
import { TryBroker } from "../features/gateways/TryBroker";
import { Palette } from "../features/palette/Palette";
import { PointsPage } from "../features/points/PointsPage";
import { RevisionsPage } from "../features/revisions/RevisionsPage";
import { SetupPage } from "../features/session/SetupPage";
import { SignInPage } from "../features/session/SignInPage";
import { type Answer, clear, DESCRIPTION, type Service, show, SOMEBODY, status } from "./service";

afterEach(() => {
  vi.useRealTimers();
  clear();
});

/** Says where one is. */
function Where() {
  const { pathname, search } = useLocation();
  return <p data-testid="where">{pathname + search}</p>;
}

const where = () => screen.getByTestId("where").textContent;
const button = (name: string | RegExp) => screen.getByRole<HTMLButtonElement>("button", { name });
const press = (name: string | RegExp) => fireEvent.click(button(name));
const type = (label: string | RegExp, text: string) => fireEvent.change(screen.getByLabelText(label), { target: { value: text } });
const said = async (text: string | RegExp) => expect((await screen.findAllByText(text)).length).toBeGreaterThan(0);

describe("around every page", () => {
  const shell = (
    <Shell who={SOMEBODY}>
      <p>the page</p>
    </Shell>
  );

  test("a database that is away is told, with what goes on and what it said", async () => {
    const told = status((told) => {
      told.database = { up: false, since: 0, last_error: "it refuses connections" } as Status["database"];
    });
    show(shell, "/", {}, told);
    await said("The database is away");
    await said(/Polling and publishing go on; .* it refuses connections/);
    expect(screen.getByText("the page")).toBeTruthy();
  });

  test("a stream that falls silent is told, and what was known stays", async () => {
    vi.useFakeTimers({ shouldAdvanceTime: true });
    show(shell, "/", {});
    await waitFor(() => expect(document.documentElement.dataset.live).toBe("live"));
    expect(screen.queryByText("The service does not answer")).toBeNull();
    await vi.advanceTimersByTimeAsync(4200);
    await said("The service does not answer");
    expect(screen.getByText("the page")).toBeTruthy();
    // The next connection says something.
    await vi.advanceTimersByTimeAsync(3000);
    await waitFor(() => expect(screen.queryByText("The service does not answer")).toBeNull());
  });

  test("pages that one may not look at are not offered", () => {
    show(
      <Shell who={{ ...SOMEBODY, role: "viewer" }}>
        <p />
      </Shell>,
      "/",
      {},
    );
    expect(screen.queryByRole("link", { name: "Audit" })).toBeNull();
    expect(screen.getAllByRole("link", { name: "Points" }).length).toBeGreaterThan(0);
  });
});

describe("by the keyboard", () => {
  const point = { id: "alderfen-1/gas-analyser/ch4", device: "gas-analyser", name: "ch4", title: "Methane" } as PointView;
  const service: Service = { ...DESCRIPTION, "points/window": { json: { total: 1, all: 1, not_good: 0, at: null, rows: [point] } } };
  const page = (
    <>
      <Palette />
      <Where />
      <input aria-label="something to type into" />
    </>
  );

  test("one goes to a point by a part of its name", async () => {
    show(page, "/", service);
    fireEvent.keyDown(window, { key: "k", ctrlKey: true });
    fireEvent.change(await screen.findByRole("combobox", { name: "Go to" }), { target: { value: "METH" } });
    await said("ch4");
    fireEvent.keyDown(screen.getByRole("combobox"), { key: "Enter" });
    expect(where()).toBe("/points?point=alderfen-1%2Fgas-analyser%2Fch4");
    expect(screen.queryByRole("combobox")).toBeNull();
  });

  test("one chooses with the arrows, which end where the list ends", async () => {
    show(page, "/", service);
    fireEvent.keyDown(window, { key: "k", metaKey: true });
    const box = await screen.findByRole("combobox", { name: "Go to" });
    fireEvent.change(box, { target: { value: "o" } });
    for (const key of ["ArrowUp", "ArrowDown", "ArrowDown", "ArrowUp"]) fireEvent.keyDown(box, { key });
    const options = screen.getAllByRole("option");
    expect(options.findIndex((option) => option.getAttribute("aria-selected") === "true")).toBe(1);
    fireEvent.change(box, { target: { value: "no such thing" } });
    await said("Nothing of that name.");
    fireEvent.keyDown(box, { key: "Enter" });
    expect(where()).toBe("/");
  });

  test("letters lead to pages, but not while one types", () => {
    show(page, "/", service);
    fireEvent.keyDown(window, { key: "g" });
    fireEvent.keyDown(window, { key: "p" });
    expect(where()).toBe("/points");
    const field = screen.getByLabelText("something to type into");
    fireEvent.keyDown(field, { key: "g" });
    fireEvent.keyDown(field, { key: "l" });
    fireEvent.keyDown(window, { key: "l" });
    expect(where()).toBe("/points");
  });
});

describe("what waits for a broker", () => {
  const BUFFER = "gateways/alderfen-1/uplinks/cloud/buffer";
  const view = { gaps: [{ from: 1_780_000_000_000, to: 1_780_000_060_000, count: 1200, why: "there was no more room" }], past: [] };

  test("that is lost, and why, stands first", async () => {
    const told = status((told) => {
      const { buffer } = told.gateways[0]!.uplinks[0]!;
      Object.assign(buffer, { is_full: true, lost: 1200, waiting: 5000, durable: 3000, journal_error: "it is read-only" });
    });
    show(<BufferPage />, "/", { [BUFFER]: { json: view } }, told);
    await said("There is no more room: samples are being lost.");
    await said("The database does not take what waits: it is read-only");
    await said("2,000 samples");
    await said("there was no more room");
    expect(screen.getAllByText("1,200")).toHaveLength(2);
  });

  test("as messages shows the last of them, and says when they cannot be had", async () => {
    const told = status((told) => {
      told.gateways[0]!.uplinks[0]!.kind = "json";
    });
    const messages = [{ at: 1_780_000_000_000, topic: "alderfen/notices", payload: "{}", error: null }, { at: 1_780_000_001_000, topic: "alderfen/faults", payload: "", error: "line 2: no such value" }];
    const path = "gateways/alderfen-1/uplinks/cloud/messages";
    const page = show(<BufferPage />, "/", { [BUFFER]: { json: { gaps: [], past: [] } }, [path]: { json: messages } }, told);
    await said("line 2: no such value");
    expect(screen.getAllByRole("listitem").map((item) => item.textContent)[0]).toMatch(/faults/);
    await page.answers({ [BUFFER]: { json: { gaps: [], past: [] } }, [path]: { status: 503, detail: "the gateway is being stopped" } });
    await said("the gateway is being stopped");
  });

  test("is not thrown away by who only looks", async () => {
    show(<BufferPage />, "/", { [BUFFER]: { json: view } }, status(), { ...SOMEBODY, role: "operator" });
    await said("cloud of alderfen-1");
    expect(screen.queryByRole("button", { name: /Throw/ })).toBeNull();
  });
});

describe("the way to a broker", () => {
  test("is shown step by step, up to the one that fails", async () => {
    const steps = [
      { step: "tcp", ok: true, said: "127.0.0.1:8883", ms: 1 },
      { step: "tls", ok: false, said: "the certificate has ended on 2026-01-01", ms: 7.25 },
    ];
    const page = show(<TryBroker gateway="alderfen-1" uplink={{ kind: "sparkplug", url: "mqtts://broker.example" }} />, "/", {
      "POST gateways/alderfen-1/trials/broker": { json: { steps } },
    });
    press("Try the broker now");
    await said(/Prove who is who failed/);
    await said("the certificate has ended on 2026-01-01");
    expect(page.sent[0]?.body).toEqual({ uplink: { kind: "sparkplug", url: "mqtts://broker.example" }, publish: false });
  });
});

describe("how an activation goes", () => {
  const OUTCOME = "gateways/alderfen-1/outcome";
  const part = { name: "south-bus", fate: "restarted", state: "down", error: "cannot connect: nobody listens there" };
  const outcome = (progress: string) => ({ json: { revision: 4, progress, links: [part], uplinks: [] } });

  test("that fails offers the way back, and takes it only then", async () => {
    const page = show(<OutcomePanel gateway="alderfen-1" before={3} />, "/", { [OUTCOME]: outcome("waiting"), "gateways/alderfen-1/activation": outcome("waiting") });
    await said("Coming up …");
    expect(screen.queryByRole("button")).toBeNull();
    await page.answers({ [OUTCOME]: outcome("failing"), "gateways/alderfen-1/activation": outcome("failing"), "POST gateways/alderfen-1/activations": { json: { revision: 5 } } });
    await said("cannot connect: nobody listens there");
    press("Return to revision 3");
    await waitFor(() => expect(page.sent[0]?.body).toEqual({ revision: 3, note: "return to revision 3" }));
  });
});

describe("revisions", () => {
  const revision = (number: number) => ({ number, author: "ada", activated_at: 1_780_000_000_000, note: number === 1 ? "" : `note ${number}` });
  const difference = { version: 7, objects: [], links: [], uplinks: [], reordered: false, text: "" };
  const service: Service = {
    ...DESCRIPTION,
    "gateways/alderfen-1/revisions": { json: [revision(3), revision(2), revision(1)] },
    "gateways/alderfen-1/difference": { json: difference },
  };

  test("are compared with the one before, and an earlier one runs again under a new number", async () => {
    const page = show(
      <>
        <RevisionsPage />
        <Where />
      </>,
      "/?gateway=alderfen-1&after=1",
      { ...service, "POST gateways/alderfen-1/activations": { status: 409, detail: "samples wait that it has no place for" } },
    );
    await said("No note");
    press("Activate revision 1 again");
    await said("samples wait that it has no place for");
    await page.answers({ ...service, "POST gateways/alderfen-1/activations": { json: { revision: 4 } } });
    press("Activate revision 1 again");
    await waitFor(() => expect(where()).toBe("/?gateway=alderfen-1&after=4"));
    expect(page.sent.map(({ body }) => body)).toEqual(Array(2).fill({ revision: 1, note: "revision 1 again" }));
  });

  test("that runs is not activated again", async () => {
    show(<RevisionsPage />, "/?gateway=alderfen-1", service);
    await said("note 3");
    expect(screen.queryByRole("button", { name: /Activate/ })).toBeNull();
  });
});

describe("points", () => {
  const point = (device: string, name: string, quality: string) =>
    ({ id: `g/${device}/${name}`, gateway: "g", device, name, title: "", address: "input:0", type: "uint16", unit: "", quality, value: 1, reason: "" }) as unknown as PointView;
  const [speed, fault, level] = [point("pump", "speed", "good"), point("pump", "fault", "bad"), point("tank", "level", "good")];
  const of = (...rows: PointView[]): Answer => ({ json: { total: rows.length, all: 3, not_good: 1, at: null, rows } });
  const service: Service = {
    "points/window?q=pump&quality=not-good&from=0&limit=100": of(fault),
    "points/window?q=pump&from=0&limit=100": of(speed, fault),
    "points/window?q=level&from=0&limit=100": of(level),
    "points/window?q=nothing+like+it&from=0&limit=100": of(),
    "points/window?q=nothing%20like%20it&from=0&limit=100": of(),
  };
  const page = (
    <>
      <PointsPage />
      <Where />
    </>
  );

  test("are filtered by the address of the page, and the address follows what is typed", async () => {
    show(page, "/points?q=pump&quality=not-good", service);
    await said("1 of 3 points, 1 not good");
    fireEvent.click(screen.getByRole("radio", { name: "All" }));
    await said("2 of 3 points, 1 not good");
    type("Filter points", "level");
    await said("1 of 3 points, 1 not good");
    expect(where()).toBe("/points?q=level");
    type("Filter points", "nothing like it");
    await said("No point fits the filter");
  });
});

describe("the audit trail", () => {
  const entry = (id: number, changes: Partial<AuditView> = {}) => ({ id, at: 1_780_000_000_000, person: "grace", source: "::1", action: "edit-draft", gateway: "", object: "", detail: `entry ${id}`, ...changes }) as AuditView;

  test("is asked for older entries from the last one on, with the filter", async () => {
    const newest = Array.from({ length: 200 }, (_, at) => entry(300 - at));
    show(<AuditPage />, "/?person=grace", {
      "audit?person=grace&limit=200": { json: newest },
      "audit?person=grace&below=101&limit=200": { json: [entry(7)] },
    });
    await said("entry 300");
    press("Older ones");
    await said("entry 7");
    await said("201 entries");
    expect(screen.queryByRole("button", { name: "Older ones" })).toBeNull();
  });

  test("is saved so that no spreadsheet takes what somebody wrote for a formula", () => {
    const lines = csv([entry(1, { detail: '=HYPERLINK("http://example.org")' }), entry(2, { person: "", detail: "a\nb", object: "+1" })]).split("\r\n");
    expect(lines[0]).toBe("id,at,person,source,action,gateway,object,detail,before,after");
    expect(lines[1]).toContain(`"'=HYPERLINK(""http://example.org"")"`);
    expect(lines[2]).toContain(`"'+1","a\nb","",""`);
  });
});

describe("the door", () => {
  const door = (page: React.ReactElement) => (
    <>
      {page}
      <Where />
    </>
  );

  test("leads on to pages of this console only", async () => {
    for (const [to, lands] of [["/points?q=a", "/points?q=a"], ["//evil.example", "/"], ["https://evil.example", "/"]] as const) {
      show(door(<SignInPage />), `/sign-in?to=${encodeURIComponent(to)}`, { setup: { json: { needed: false } }, "POST session": { json: SOMEBODY } });
      type("Name", "ada");
      type("Password", "alderfen works 1");
      press("Sign in");
      await waitFor(() => expect(where()).toBe(lands));
      clear();
    }
  });

  test("keeps the name when the password is wrong", async () => {
    show(door(<SignInPage />), "/sign-in", { setup: { json: { needed: false } }, "POST session": { status: 401, detail: "name and password do not fit" } });
    type("Name", "ada");
    type("Password", "guess");
    press("Sign in");
    await said("name and password do not fit");
    expect(screen.getByLabelText<HTMLInputElement>("Name").value).toBe("ada");
  });

  test("leads to the set-up while nobody is named, and sets up with two equal passwords only", async () => {
    show(door(<SignInPage />), "/sign-in", { setup: { json: { needed: true } } });
    await waitFor(() => expect(where()).toBe("/setup"));
    clear();
    const page = show(door(<SetupPage />), "/setup?code=ABCD-1234", { setup: { json: { needed: true } }, "POST setup": { json: SOMEBODY } });
    type("Name", "ada");
    type(/^Password$|^Password8/, "alderfen works 1");
    type("Password again", "alderfen works 2");
    press("Set up and sign in");
    await said("The two passwords differ.");
    expect(page.sent).toHaveLength(0);
    type("Password again", "alderfen works 1");
    press("Set up and sign in");
    await waitFor(() => expect(where()).toBe("/"));
    expect(page.sent[0]?.body).toEqual({ code: "ABCD-1234", name: "ada", password: "alderfen works 1" });
  });

  test("is shut when somebody has set up already", async () => {
    show(door(<SetupPage />), "/setup?code=ABCD-1234", { setup: { json: { needed: false } } });
    await said("Set up already");
    expect(screen.queryByLabelText("Code")).toBeNull();
  });
});
