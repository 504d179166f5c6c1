import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import type { CountsView, FrameView, LinkStatistics, ObjectView, PointView, Problem, RequestView, TrialReading } from "../api/client";
import { Arrivals } from "../features/devices/Arrivals";
import { DeviceLine } from "../features/devices/DeviceLine";
import { PointsEditor } from "../features/devices/PointsEditor";
import { ReportPreview } from "../features/devices/ReportPreview";
import { TrialPanel } from "../features/devices/TrialPanel";
import { GatewaysPage } from "../features/gateways/GatewaysPage";
import { LinkCounts } from "../features/links/LinkCounts";
import { ImportList } from "../features/points/ImportList";
import { TapPage } from "../features/tap/TapPage";
import { clear, DESCRIPTION, DRAFT, FORMS, GATEWAYS, type Service, show, SOMEBODY, status } from "./service";

beforeEach(() => {
  // Nothing is laid out here: scrollers are told their size, so that rows come into view.
  vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(600);
  vi.spyOn(Element.prototype, "clientWidth", "get").mockReturnValue(1000);
});

afterEach(() => {
  clear();
  vi.restoreAllMocks();
});

const button = (name: string | RegExp) => screen.getByRole<HTMLButtonElement>("button", { name });
const press = (name: string | RegExp) => fireEvent.click(button(name));
const type = (label: string | RegExp, text: string) => fireEvent.change(screen.getByLabelText(label), { target: { value: text } });
const said = async (text: string | RegExp) => expect((await screen.findAllByText(text)).length).toBeGreaterThan(0);
const refused = (status: number, detail: string, more: Record<string, unknown> = {}) => ({ status, detail, more });
const cells = (row: HTMLElement) => within(row).getAllByRole("cell").map((cell) => cell.textContent?.trim());
const OPERATOR = { ...SOMEBODY, role: "operator" as const };
const LIST = "points/gas-analyser.csv";

const frame = (number: number, text: string): FrameView => ({ number, at: 0, sent: number === 1, devices: ["gas-analyser"], text, bytes: "00 01", error: false }) as unknown as FrameView;

describe("a point that is read once", () => {
  const link = { name: "process-bus", protocol: "modbus-tcp", host: "10.20.0.11" };
  const panel = (address = "input:4") => (
    <TrialPanel gateway="alderfen-1" link={link} device={{ name: "gas-analyser", unit: 3 }} point={{ name: "ch4", address }} />
  );
  const TRIAL = "POST gateways/alderfen-1/trials";
  const reading = {
    value: 54.3,
    raw: 5430,
    unit: "%",
    address: "input:4",
    registers: [5430, 0],
    answer_ms: 12.34,
    shared_connection: true,
    frames: [frame(1, "read input 4")],
    alternatives: [
      { address: "input:3", type: "uint16", order: null, value: 0, scale: null },
      { address: "input:4", type: "uint16", order: null, value: 5430, scale: 0.01 },
    ],
  } as unknown as TrialReading;

  test("shows value, raw value and registers, and what it would be otherwise", async () => {
    const page = show(panel(), "/", { [TRIAL]: { json: reading } });
    type("Its display shows", "54,3");
    press("Read it now");
    await said("54.3 %");
    await said(/5430 \(0x1536\)/);
    await said("12.3 ms, over the connection of the running link");
    expect(page.sent[0]?.body).toMatchObject({ expected: 54.3, neighbours: true, point: { address: "input:4" } });
    const near = screen.getByText("with scale 0.01").closest("tr") as HTMLElement;
    expect(cells(near)).toEqual(["input:4", "uint16", "", "5430", "with scale 0.01"]);
    expect(screen.getByText("Read otherwise, and one address off").closest("details")?.open, "what fits is not hidden").toBe(true);
    expect(screen.queryByText("Write it now"), "inputs cannot be written").toBeNull();
  });

  test("that does not answer shows what went over the line; nonsense says what would be right", async () => {
    const page = show(panel(), "/", { [TRIAL]: refused(502, "no answer within 1 s", { frames: [frame(1, "read input 4")] }) });
    press("Read it now");
    await said("no answer within 1 s");
    await said("read input 4");
    const problem = { message: "address is \"input:x\"", expected: "such as input:4", severity: "mistake" };
    await page.answers({ [TRIAL]: refused(422, "wrong", { problems: [problem] }) });
    press("Read it now");
    await said("This cannot be asked");
    await said('address is "input:x"; expected such as input:4');
  });

  test("is written only after a question, and says what the device says then", async () => {
    const outcome = { confirmed: true, written: 41, raw: 41, value: 41, unit: "%", address: "holding:4", answer_ms: 3, frames: [], words: "confirmed" };
    const page = show(panel("holding:4"), "/", { [`${TRIAL}/write`]: { json: outcome } });
    expect(button("Write it now").disabled).toBe(true);
    type("Value", " 41 ");
    press("Write it now");
    await said("Write 41 to holding:4?");
    press("Leave it");
    expect(page.sent).toEqual([]);
    press("Write it now");
    press("Write it");
    await said("Written, reads back 41 %");
    expect(page.sent.map((one) => one.body.value)).toEqual(["41"]);
  });
});

describe("a list from a spreadsheet", () => {
  const IMPORT = "POST gateways/alderfen-1/draft/import";
  const COLUMNS = [{ heading: "Tag", key: "name", example: "ch4" }, { heading: "Page", key: null, example: "12" }];
  const result = (problems: Problem[] = [], more: object = { columns: COLUMNS, without_rate: 0, without_table: 0 }) => ({
    json: {
      added: ["h2s"],
      changed: [{ name: "ch4", fields: [{ field: "unit", before: null, after: "%" }] }],
      removed: [],
      same: 8,
      problems,
      rows: [],
      ...more,
    },
  });

  test("is seen before it is taken, and taken against the draft that was seen", async () => {
    const onDone = vi.fn();
    const page = show(<ImportList gateway="alderfen-1" draft={DRAFT} list={LIST} schema={FORMS.point} onDone={onDone} />, "/", { ...DESCRIPTION, [IMPORT]: result() });
    expect(button("Take over into the draft").disabled).toBe(true);
    type(/^Point list/, "name;address\nch4;input:0");
    await said("1 added, 1 changed, 0 removed, 8 the same");
    const lines = within(screen.getByLabelText("What would change")).getAllByRole("listitem");
    expect(lines.map((line) => line.textContent)).toEqual(["+h2snew", "~ch4unit – → %"]);
    fireEvent.click(screen.getByLabelText("Points that it does not name go"));
    await waitFor(() => expect(page.sent.at(-1)?.body).toMatchObject({ list: LIST, text: "name;address\nch4;input:0", remove_others: true, version: null }));
    await page.answers({ ...DESCRIPTION, [IMPORT]: refused(409, "the draft has moved") });
    press("Take over into the draft");
    await said("the draft has moved");
    expect(onDone).not.toHaveBeenCalled();
    await page.answers({ ...DESCRIPTION, [IMPORT]: result() });
    press("Take over into the draft");
    await waitFor(() => expect(onDone).toHaveBeenCalledOnce());
    expect(page.sent.filter((one) => one.body.version === 7)).toHaveLength(2);
  });

  test("has columns as its manual calls them, and what all its rows lack is asked once", async () => {
    const lacking = result([], { columns: COLUMNS, without_rate: 9, without_table: 0 });
    const page = show(<ImportList gateway="alderfen-1" draft={DRAFT} list={LIST} schema={FORMS.point} start="Tag" onDone={() => {}} />, "/", { ...DESCRIPTION, [IMPORT]: lacking });
    expect((await screen.findByLabelText<HTMLSelectElement>("What Page is")).value).toBe("");
    expect(button("Take over into the draft").disabled).toBe(true);
    fireEvent.change(screen.getByLabelText("What Page is"), { target: { value: "address" } });
    fireEvent.change(screen.getByLabelText("Rate"), { target: { value: "normal" } });
    await waitFor(() => expect(page.sent.at(-1)?.body).toMatchObject({ columns: { Page: "address" }, rate: "normal", version: null }));
  });

  test("with a mistake says in which line and column, and is not taken", async () => {
    const problem = { line: 3, column: 2, severity: "mistake", object: "", message: "address is \"4x\"", expected: "such as input:4" } as unknown as Problem;
    show(<ImportList gateway="alderfen-1" draft={DRAFT} list={LIST} schema={FORMS.point} start="name" onDone={() => {}} />, "/", { ...DESCRIPTION, [IMPORT]: result([problem]) });
    await said("line 3, column 2");
    await said(/8 the same; 1 mistake first/);
    expect(button("Take over into the draft").disabled).toBe(true);
  });
});

describe("the points of a device", () => {
  const device = DRAFT.objects.find((object) => object.class === "device") as ObjectView;
  const names = ["ch4", "co2", "h2s", "o2", "flow"];
  const points = names.map((name, at) => ({ class: "point", list: LIST, name, version: "1", content: { name, address: `input:${at}`, type: "uint16", rate: "normal", title: `Title ${at}` } }));
  const shared = { ...DRAFT, lists: [{ path: LIST, points: 5, devices: ["gas-analyser", "second-analyser"] }] };
  const mistake = { severity: "mistake", message: "wrong", expected: "right", field: "type", target: { class: "point", list: LIST, name: "h2s" } };
  const service = {
    ...DESCRIPTION,
    "gateways/alderfen-1/draft/check": { json: { version: 7, mistakes: 1, problems: [mistake] } },
    "gateways/alderfen-1/draft/points": { json: points },
  };
  const editor = <PointsEditor gateway="alderfen-1" draft={shared} forms={FORMS} device={device} list={LIST} opened={null} onOpen={() => {}} />;
  const listed = () => within(screen.getByLabelText("Points of the list")).getAllByRole("row").slice(1).map((row) => within(row).getAllByRole("gridcell")[1]?.textContent?.split("wrong")[0]);

  test("are filtered, told to be shared, and chosen up to one with shift", async () => {
    show(editor, "/", service);
    await said("points/gas-analyser.csv is the list of second-analyser too");
    await waitFor(() => expect(listed()).toEqual(names));
    const wrong = screen.getByText("wrong; expected right").closest("[role=gridcell]");
    expect([wrong?.getAttribute("aria-invalid"), wrong?.closest("[role=row]")?.textContent?.slice(0, 3)]).toEqual(["true", "h2s"]);
    fireEvent.click(screen.getByLabelText("Choose co2"));
    fireEvent.click(screen.getByLabelText("Choose o2"), { shiftKey: true });
    await said("3 points chosen");
    type("Filter the list", "TITLE 4");
    await waitFor(() => expect(listed()).toEqual(["flow"]));
    fireEvent.click(screen.getByLabelText("Choose all that are shown"));
    await said("4 points chosen");
    type("Filter the list", "input:2");
    await waitFor(() => expect(listed()).toEqual(["h2s"]));
  });

  test("are typed into, pasted into, and taken back, each time in one request", async () => {
    const EDITS = "POST gateways/alderfen-1/draft/edits";
    const told = (name: string, type: string) => ({ json: { version: 8, objects: [{ class: "point", list: LIST, name, version: "2", content: { name, address: "input:0", type, rate: "normal" } }] } });
    const page = show(editor, "/", { ...service, [EDITS]: told("ch4", "int16") });
    const grid = await screen.findByLabelText("Points of the list");
    await waitFor(() => expect(listed()).toEqual(names));
    for (const key of ["ArrowRight", "ArrowRight", "i"]) fireEvent.keyDown(grid, { key });
    const cell = screen.getByRole("textbox", { name: "Type" });
    expect((cell as HTMLInputElement).value, "what is typed replaces the cell").toBe("i");
    fireEvent.change(cell, { target: { value: "int16" } });
    fireEvent.keyDown(cell, { key: "Enter" });
    await waitFor(() => expect(page.sent).toHaveLength(1));
    expect(page.sent[0]?.body.edits).toMatchObject([{ object: { name: "ch4" }, version: "1", content: { type: "int16" } }]);
    await waitFor(() => expect(screen.getByText("int16")).toBeTruthy());
    fireEvent.paste(grid, { clipboardData: { getData: () => "float32\nfloat32\nfloat32" } });
    await waitFor(() => expect(page.sent).toHaveLength(2));
    expect(page.sent[1]?.body.edits.map((edit: { object: { name: string } }) => edit.object.name)).toEqual(["co2", "h2s", "o2"]);
    await waitFor(() => expect(button("Undo").disabled).toBe(false));
    fireEvent.keyDown(grid, { key: "z", ctrlKey: true });
    await waitFor(() => expect(page.sent).toHaveLength(3));
    expect(page.sent[2]?.body.edits).toHaveLength(3);
    expect(page.sent[2]?.body.edits[0]).toMatchObject({ content: { type: "uint16" }, began: { type: "float32" } });
  });

  test("can be looked at and not chosen by who only looks; none says what to do", async () => {
    const page = show(editor, "/", service, status(), OPERATOR);
    await waitFor(() => expect(listed()).toEqual(names));
    expect(screen.queryByLabelText("Choose co2")).toBeNull();
    expect(screen.queryByText("Add a point")).toBeNull();
    await page.answers({ ...service, "gateways/alderfen-1/draft/points": { json: [] } });
    await said("No points yet");
  });
});

const counts: CountsView = {
  requests: 1200,
  answers: 1190,
  timeouts: 4,
  garbled: 0,
  malformed: 0,
  refusals: [{ count: 6, meaning: "illegal data address" }],
  answer_times: { p50_ms: 10, p99_ms: 25, max_ms: 40, bars: [{ up_to_ms: 10, count: 700 }, { up_to_ms: 50, count: 490 }] },
} as unknown as CountsView;

const statistics = {
  ...counts,
  lately: { ...counts, requests: 60, refusals: [] },
  lately_minutes: 5,
  since: 0,
  bus_load: 0.415,
  bytes_sent: 14_400,
  bytes_received: 30_000,
  late: 1,
  of_others: 0,
  unmatched: 2,
  noise_bytes: 0,
  rates: [{ asked_ms: 1000, achieved_ms: 1040, polls: 900, missed: 3 }],
  devices: [{ name: "gas-analyser", ...counts, lately: counts }],
} as unknown as LinkStatistics;

const OF_LINK = "gateways/alderfen-1/links/process-bus";

describe("what a link counted", () => {
  test("says what became of requests, what was dropped, and how well rates are kept", async () => {
    const page = show(<LinkCounts gateway="alderfen-1" link="process-bus" />, "/", { [`${OF_LINK}/statistics`]: { json: statistics } });
    await said("41.5 %");
    await said(/Dropped: 1 answer that came late, 2 frames that answer nothing\./);
    await said("6 × illegal data address");
    const rows = within(screen.getByRole("table", { name: "How well each rate is kept" })).getAllByRole("row");
    expect(cells(rows[1] as HTMLElement)).toEqual(["1000 ms", "1040 ms", "900", "3"]);
    await page.answers({ [`${OF_LINK}/statistics`]: { json: statistics }, [`POST ${OF_LINK}/statistics/reset`]: refused(503, "the link does not run") });
    press("Count anew");
    await said("the link does not run");
  });

  test("is counted anew by engineers only", async () => {
    show(<LinkCounts gateway="alderfen-1" link="process-bus" />, "/", { [`${OF_LINK}/statistics`]: { json: statistics } }, status(), OPERATOR);
    await said("41.5 %");
    expect(screen.queryByText("Count anew")).toBeNull();
  });
});

describe("how a device is asked", () => {
  const requests: RequestView[] = [
    { devices: ["gas-analyser"], reads: "input 0 to 5", period_ms: 1000, points: ["ch4", "co2"], as_planned: true },
    { devices: ["gas-analyser"], reads: "input 40", period_ms: 1000, points: ["purge"], as_planned: false, bad: "illegal data address", whole_again_in_ms: 61_000 },
    { devices: ["silo"], reads: "input 9", period_ms: 1000, points: ["level"], as_planned: true },
  ];
  const line = (isRunning: boolean) => (
    <DeviceLine
      gateway="alderfen-1"
      draft={DRAFT}
      forms={FORMS}
      device="gas-analyser"
      link={{ name: "process-bus", protocol: "modbus-tcp" }}
      content={{ name: "gas-analyser", link: "process-bus" }}
      isRunning={isRunning}
    />
  );
  const service = { ...DESCRIPTION, [`${OF_LINK}/statistics`]: { json: statistics }, [`${OF_LINK}/requests`]: { json: requests } };

  test("is shown with what was learned, which can be tried anew", async () => {
    const page = show(line(true), "/", { ...service, [`POST ${OF_LINK}/relearn`]: { json: {} } });
    await said("2 requests read it");
    await said("illegal data address");
    await said("whole again in 61 s");
    expect(screen.queryByText("input 9"), "another device's").toBeNull();
    press("Try the whole ones again");
    await waitFor(() => expect(page.sent).toEqual([{ call: `POST ${OF_LINK}/relearn`, body: { device: "gas-analyser" } }]));
  });

  test("cannot be told before it runs, and trials work already", async () => {
    show(line(false), "/", DESCRIPTION);
    await said("The device does not run yet");
    await said("What does it have?");
  });
});

test("what would be sent is told with its share of each point", async () => {
  const CALL = "POST gateways/alderfen-1/trials/reports";
  const preview = [
    { point: "ch4", seconds: 300, read: 300, sent: 12, sent_per_hour: 144.4, bytes_per_hour: 4000 },
    { point: "co2", seconds: 60, read: 60, sent: 0, sent_per_hour: 0, bytes_per_hour: 0 },
  ];
  const page = show(<ReportPreview gateway="alderfen-1" device="gas-analyser" />, "/", { [CALL]: { json: [] } });
  press("What would be sent?");
  await said("Nothing is remembered of its points yet.");
  await page.answers({ [CALL]: { json: preview } });
  press("What would be sent?");
  await said(/By what was read in the last 5 min.*: 144 values and 4\.0 kB an hour\./);
  expect(screen.getAllByRole("row").slice(1).map(cells)).toEqual([["300", "12", "144"], ["60", "0", "0"]]);
});

const POINT = {
  id: "alderfen-1/gas-analyser/ch4",
  gateway: "alderfen-1",
  device: "gas-analyser",
  name: "ch4",
  title: "",
  address: "input:0",
  type: "uint16",
  unit: "%",
  decimals: 1,
  value: 54.3,
  raw: 543,
  quality: "good",
  gateway_at: 1_780_000_000_000,
  value_at: 1_780_000_000_000,
} as unknown as PointView;

const POINTS: Service = {
  points: { json: [POINT] },
  "points/window": { json: { total: 1, all: 1, not_good: 0, at: null, rows: [POINT] } },
  [`points/${POINT.id}`]: { json: { ...POINT, recent: [] } },
};
const metric = (value: number, more = {}) => ({ name: "ch4", value, unit: "%", data_type: "Float", timestamp: 1_780_000_000_000, historical: false, quality: 192, ...more });
const message = (topic: string, metrics: unknown[], more = {}) => ({ at: 1_780_000_000_000, topic, type: "data", seq: 3, bytes: 40, metrics, retained: false, ...more });

test("values of a new device stand beside what arrived of them, and nobody is told that they arrived before", async () => {
  const page = show(<Arrivals gateway="alderfen-1" device="gas-analyser" />, "/", { ...POINTS });
  await said("not yet");
  // Of another device.
  await page.tell("/api/v1/tap", "message", message("spBv1.0/alderfen/DDATA/works-1/silo", [metric(9)]));
  await page.tell("/api/v1/tap", "lost", "connection refused");
  await said("The broker cannot be listened to: connection refused");
  await said("not yet");
  await page.tell("/api/v1/tap", "message", message("spBv1.0/alderfen/DDATA/works-1/gas-analyser", [metric(54.1)]));
  await said("54.1");
  expect(screen.queryByText(/cannot be listened to/)).toBeNull();
});

describe("what arrives at the broker", () => {
  const topic = "spBv1.0/alderfen/DDATA/works-1/gas-analyser";
  const followed = "gateways/alderfen-1/uplinks/cloud/published/gas-analyser/ch4";

  test("stands by topic with the last message, and waits while one looks", async () => {
    const page = show(<TapPage />, `/?topic=${encodeURIComponent(topic)}`, { ...POINTS });
    await said("Nothing has arrived yet.");
    await page.tell("/api/v1/tap", "message", message(topic, [metric(54.1), metric(50, { historical: true, quality: 0 })]));
    await said("1 topic");
    const rows = within(await screen.findByLabelText("Last message")).getAllByRole("row").slice(1).map(cells);
    expect(rows.map((row) => row.slice(0, 2))).toEqual([["54.1 %", "Float"], ["50 %", "Float · historical · bad"]]);
    press("Pause");
    await page.tell("/api/v1/tap", "message", message("alderfen/notices", [], { text: "{\"a\":1}", retained: true }));
    await page.tell("/api/v1/tap", "lost", "not authorized");
    await said("The broker cannot be listened to: not authorized");
    expect(screen.getByText("1 topic")).toBeTruthy();
    press("Go on");
    await said("2 topics");
    fireEvent.click(await screen.findByText("alderfen/notices"));
    await said(/kept by the broker/);
    expect(screen.getByLabelText("Last message").querySelector("pre")?.textContent).toBe('{\n  "a": 1\n}');
  });

  test("is followed from the field to the broker", async () => {
    const page = show(<TapPage />, `/?point=${encodeURIComponent(POINT.id)}`, { ...POINTS, [followed]: { json: null } });
    const stages = async () => within(await screen.findByLabelText("Follow a point")).getAllByRole("listitem").map((stage) => stage.textContent);
    await said("a value goes when it changes");
    expect((await stages())[2]).toContain("nothing since you look");
    await page.answers({ ...POINTS, [followed]: { json: { value: 54.2, at: 1_780_000_000_000, timestamp: 1_780_000_000_000, historical: true } } });
    await page.tell("/api/v1/tap", "message", message(topic, [metric(54.2)]));
    await waitFor(async () => expect((await stages())[2]).toContain("54.2 %"));
    expect((await stages())[0]).toContain("54.3 %");
    expect((await stages())[1]).toMatch(/54\.2 %.*historical/);
  });
});

describe("a gateway", () => {
  const uplink = (content: object) => ({ ...DRAFT, objects: DRAFT.objects.map((one) => (one.class === "uplink" ? { ...one, content: { ...(one.content as object), ...content } } : one)) });
  const at = "/?gateway=alderfen-1&open=uplink:cloud";

  test("that is refused stays in the form with the reason; one that is removed is asked for first", async () => {
    const problem = { message: "the name is \"a b\"", expected: "letters, digits and -", severity: "mistake" };
    const page = show(<GatewaysPage />, "/?gateway=alderfen-1", { ...DESCRIPTION, "POST gateways": refused(422, "wrong", { problems: [problem] }), "DELETE gateways/alderfen-1": refused(409, "it is being activated") });
    await said("Alderfen biogas works");
    type(/^Name of a new gateway/, "a b");
    press("Add");
    await said('the name is "a b"; expected letters, digits and -');
    expect(screen.getByLabelText<HTMLInputElement>(/^Name of a new gateway/).value).toBe("a b");
    await screen.findByText("Remove this gateway");
    press("Remove this gateway");
    press("Stop and remove");
    await said("it is being activated");
    expect(page.sent.map((one) => one.call)).toEqual(["POST gateways", "DELETE gateways/alderfen-1"]);
  });

  test("that does not run says why", async () => {
    show(<GatewaysPage />, "/?gateway=alderfen-1", { ...DESCRIPTION, gateways: { json: [{ ...GATEWAYS[0], running: false, problem: "revision 3 has a mistake" }] } });
    await said("does not run");
    await said("revision 3 has a mistake");
  });

  test("gets a key for its broker into the form, and nowhere else", async () => {
    const draft = { json: uplink({ url: "mqtts://broker.example", node: "works-1" }) };
    const page = show(<GatewaysPage />, at, { ...DESCRIPTION, "gateways/alderfen-1/draft": draft, "POST certificate-requests": { json: { key: "KEY", request: "REQUEST" } } });
    fireEvent.click(await screen.findByText("Make a key and a certificate request"));
    const link = await screen.findByText<HTMLAnchorElement>("Save the request");
    expect([link.download, link.href]).toEqual(["works-1.csr", "data:application/pkcs10,REQUEST"]);
    await said("Not saved");
    expect(page.sent).toEqual([{ call: "POST certificate-requests", body: { name: "works-1" } }]);
  });

  test("shows what its templates would send, with what is wrong in them", async () => {
    const messages = [
      { at: 0, topic: "works/a", payload: "{}", error: null, is_json: true },
      { at: 0, topic: "works/b", payload: "x", error: null, is_json: false },
      { at: 0, topic: "", payload: "", error: "payload line 2: undefined value", is_json: false },
      { at: 0, topic: "works/d", payload: "{}", error: null, is_json: true },
    ];
    const CALL = "POST gateways/alderfen-1/trials/messages";
    const page = show(<GatewaysPage />, at, { ...DESCRIPTION, "gateways/alderfen-1/draft": { json: uplink({ kind: "json", topic: "works", password: "hush" }) }, [CALL]: { json: messages } });
    await said(/1 bytes, not JSON/);
    await said("payload line 2: undefined value");
    await said("and 1 more");
    expect(JSON.stringify(page.sent[0]?.body), "secrets have no part in messages").not.toContain("hush");
  });
});
