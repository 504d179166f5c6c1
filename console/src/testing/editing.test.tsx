import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, test } from "vitest";
import type { Conflict, ObjectView, Offer, OffersImport, PointView, WriteOutcome } from "../api/client";
import { ChangesPage } from "../features/changes/ChangesPage";
import { ObjectEditor } from "../features/description/ObjectEditor";
import { AddDevicePage } from "../features/devices/AddDevicePage";
import { BulkChange } from "../features/devices/BulkChange";
import { ChooseOffers } from "../features/offers/ChooseOffers";
import { PeoplePage } from "../features/people/PeoplePage";
import { Command } from "../features/points/Command";
import { clear, close, DESCRIPTION, DRAFT, FORMS, type Service, show, SOMEBODY, status } from "./service";

afterEach(clear);

const DRAFT_PATH = "gateways/alderfen-1/draft";
const EDITS = `POST ${DRAFT_PATH}/edits`;

const field = (label: string | RegExp) => screen.getByLabelText<HTMLInputElement>(typeof label === "string" ? new RegExp(`^${label}`) : label);
const type = (label: string | RegExp, text: string) => fireEvent.change(field(label), { target: { value: text } });
const button = (name: string | RegExp) => screen.getByRole<HTMLButtonElement>("button", { name });
const press = (name: string | RegExp) => fireEvent.click(button(name));
const said = async (text: string | RegExp) => expect((await screen.findAllByText(text)).length).toBeGreaterThan(0);
const refused = (status: number, detail: string, more: Record<string, unknown> = {}) => ({ status, detail, more });

describe("one object of the draft", () => {
  const link = DRAFT.objects.find((object) => object.class === "link") as ObjectView;
  const editor = (object: ObjectView | undefined = link) => (
    <ObjectEditor gateway="alderfen-1" draft={DRAFT} forms={FORMS} of="link" object={object} start={{ protocol: "modbus-tcp" }} />
  );
  const conflict: Conflict = { changed_by: "grace", version: "9", clashes: ["host"], content: { name: "process-bus", protocol: "modbus-tcp", host: "10.20.0.99" } } as Conflict;

  test("is saved with the version that was looked at, and is the service's again then", async () => {
    const page = show(editor(), "/", { ...DESCRIPTION, [EDITS]: { json: { version: 8 } } });
    expect(button("Save to the draft").disabled).toBe(true);
    type("Host", "10.20.0.12");
    await said("Not saved");
    press("Save to the draft");
    await waitFor(() => expect(page.sent).toHaveLength(1));
    const content = { name: "process-bus", protocol: "modbus-tcp", host: "10.20.0.12" };
    const began = { ...content, host: "10.20.0.11" };
    expect(page.sent[0]).toEqual({ call: EDITS, body: { edits: [{ object: { class: "link", list: "", name: "process-bus" }, version: "1", content, began }] } });
    await waitFor(() => expect(screen.queryByText("Not saved")).toBeNull());
  });

  test("keeps what was typed over a reload, until it is undone", async () => {
    show(editor(), "/", DESCRIPTION);
    type("Host", "10.20.0.13");
    close();
    show(editor(), "/", DESCRIPTION);
    expect(field("Host").value).toBe("10.20.0.13");
    press("Undo");
    expect(field("Host").value).toBe("10.20.0.11");
    close();
    show(editor(), "/", DESCRIPTION);
    expect(field("Host").value).toBe("10.20.0.11");
  });

  test("that somebody else has changed is shown in both versions, and mine wins only when I say so", async () => {
    const page = show(editor(), "/", { ...DESCRIPTION, [EDITS]: refused(409, "grace has changed it", { conflict }) });
    type("Host", "10.20.0.12");
    press("Save to the draft");
    await said("grace has changed this meanwhile");
    const row = screen.getByRole("row", { name: /^Host/ });
    expect(within(row).getAllByRole("cell").map((cell) => cell.textContent)).toEqual(["10.20.0.12", "10.20.0.99"]);
    expect(screen.getAllByRole("row")).toHaveLength(2);
    expect(field("Host").value).toBe("10.20.0.12");
    await page.answers({ ...DESCRIPTION, [EDITS]: { json: { version: 10 } } });
    press("Save what is chosen");
    await waitFor(() => expect(page.sent).toHaveLength(2));
    // What was theirs is what was looked at now: mine is the only change.
    expect(page.sent[1]?.body.edits[0]).toMatchObject({ version: "1", began: { host: "10.20.0.99" }, content: { host: "10.20.0.12" } });
  });

  test("both changes of which are chosen from field by field", async () => {
    const both = { ...conflict, clashes: ["host", "name"], content: { ...(conflict.content as object), name: "bus-b" } } as Conflict;
    const page = show(editor(), "/", { ...DESCRIPTION, [EDITS]: refused(409, "grace has changed it", { conflict: both }) });
    type("Host", "10.20.0.12");
    type("Name", "bus-a");
    press("Save to the draft");
    await said("grace has changed this meanwhile");
    fireEvent.click(screen.getByRole("radio", { name: "Theirs of host" }));
    press("Save what is chosen");
    await waitFor(() => expect(page.sent).toHaveLength(2));
    expect(page.sent[1]?.body.edits[0].content).toMatchObject({ host: "10.20.0.99", name: "bus-a" });
  });

  test("that somebody else has changed can be left as theirs", async () => {
    const page = show(editor(), "/", { ...DESCRIPTION, [EDITS]: refused(409, "grace has changed it", { conflict }) });
    type("Host", "10.20.0.12");
    press("Save to the draft");
    await said("grace has changed this meanwhile");
    press("Take all of theirs");
    expect(field("Host").value).toBe("10.20.0.11");
    expect(page.sent).toHaveLength(1);
  });

  test("that somebody else has removed is added again as a new one", async () => {
    const gone = { ...conflict, clashes: [], version: "", content: null } as unknown as Conflict;
    const page = show(editor(), "/", { ...DESCRIPTION, [EDITS]: refused(409, "it is gone", { conflict: gone }) });
    type("Host", "10.20.0.12");
    press("Save to the draft");
    await said("Somebody has removed this meanwhile");
    press("Add mine again");
    await waitFor(() => expect(page.sent).toHaveLength(2));
    expect(page.sent[1]?.body.edits[0].version).toBeNull();
  });

  test("that the service does not take says so at its field, and what was typed stays", async () => {
    const problem = { severity: "mistake", object: "link process-bus", field: "host", message: "the host has a space", expected: "a name or an address" };
    show(editor(), "/", { ...DESCRIPTION, [EDITS]: refused(422, "1 mistake", { problems: [problem] }) });
    type("Host", "10.20 .0.12");
    press("Save to the draft");
    await said(/the host has a space/);
    expect(field("Host").value).toBe("10.20 .0.12");
    expect(screen.queryByText("1 mistake")).toBeNull();
  });

  test("can be looked at and not changed by who only looks", async () => {
    show(editor(), "/", DESCRIPTION, status(), { ...SOMEBODY, role: "viewer" });
    expect(field("Host").matches(":disabled")).toBe(true);
    expect(screen.queryByRole("button", { name: /Save|Remove/ })).toBeNull();
  });
});

describe("a new device", () => {
  const page = <AddDevicePage />;
  const service: Service = {
    ...DESCRIPTION,
    [`${DRAFT_PATH}/points?list=points%2Fmeter.csv`]: { json: [] },
    [`${DRAFT_PATH}/points`]: { json: [] },
  };
  const at = (step: number) => `/devices/new?gateway=alderfen-1&step=${step}`;

  test("goes into the draft in one step with its link and its points, after a reload, too", async () => {
    show(page, at(0), service);
    await said("Which way leads to it?");
    fireEvent.change(field("Link"), { target: { value: "" } });
    expect(button("Go on").disabled).toBe(true);
    type("Name", "south-bus");
    type("Host", "10.20.0.40");
    press("Go on");
    await said("Does it answer?");
    type("Unit", "9");
    press("Go on");
    await said("What is it called?");
    expect(button("Go on").disabled).toBe(true);
    type("Name", "meter");
    close();
    const again = show(page, at(2), { ...service, [EDITS]: refused(422, "the name is taken") });
    await said("What is it called?");
    expect(field("Name").value).toBe("meter");
    press("Go on");
    await said("Its points");
    type("Name", "level");
    type("Address", "holding:4");
    press("Go on");
    await said("Into the draft");
    await said("link south-bus to 10.20.0.40");
    await waitFor(() => expect(button("Put it into the draft").disabled).toBe(false));
    press("Put it into the draft");
    await said("the name is taken");
    const edits = again.sent[0]?.body.edits as { object: { class: string; list: string; name: string }; content: Record<string, unknown> }[];
    expect(edits.map(({ object }) => [object.class, object.list, object.name].join("/"))).toEqual(["link//south-bus", "device//meter", "point/points/meter.csv/level"]);
    expect(edits[1]?.content).toMatchObject({ name: "meter", link: "south-bus" });
    expect(edits[2]?.content).toMatchObject({ name: "level", address: "holding:4", rate: "normal" });
    // Nothing that was entered is gone after the refusal.
    press("Back");
    await said("Its points");
    expect(screen.getByText("level")).toBeTruthy();
  });

  test("can be gone back to once it is in the draft: its steps edit what is there", async () => {
    const [device] = DRAFT.objects.filter((object) => object.class === "device");
    const again = show(page, `${at(1)}&device=${device?.name}`, { ...service, [EDITS]: { json: { version: 9, objects: [] } } });
    await said(`Device ${device?.name}`);
    type("Unit", "9");
    press("Save to the draft");
    await waitFor(() => expect(again.sent[0]?.body.edits[0]).toMatchObject({ object: { class: "device", name: device?.name }, version: device?.version, content: { unit: "9" } }));
    press("1. Link");
    await said(/^Link /);
    press("4. Points");
    await said(`Points of ${device?.name}`);
    press("Go on");
    await said("In the draft");
  });

  test("cannot be run before it is in the draft", async () => {
    show(page, at(0), service);
    await said("Which way leads to it?");
    expect(button(/Run it/).disabled).toBe(true);
  });
});

describe("offers", () => {
  const offer = (path: string[], address: string): Offer => ({ path, point: { address, type: "uint16", unit: "%" }, value: 7, note: "" }) as unknown as Offer;
  const offers = [offer(["block", "Level"], "input:0"), offer(["block", "Feed"], "input:1"), offer(["other", "Level"], "input:9")];
  const POST = `POST ${DRAFT_PATH}/offers`;
  const becomes = (problems: unknown[] = []) => {
    const lists: OffersImport[] = [
      { list: "points/tank.csv", devices: ["tank"], import: { added: ["level"], changed: [], removed: [], same: 4, problems } } as unknown as OffersImport,
    ];
    return { json: { names: ["block-level"], lists, version: 7 } };
  };
  const panel = <ChooseOffers gateway="alderfen-1" draft={DRAFT} offers={offers} targets={{ devices: ["tank", "silo"] }} />;

  test("are filtered, chosen, named, seen before they are taken, and taken against the draft that was seen", async () => {
    const page = show(panel, "/", { ...DESCRIPTION, [POST]: becomes() });
    expect(button("Put them into the draft").disabled).toBe(true);
    fireEvent.change(field("Filter what is offered"), { target: { value: "LEVEL" } });
    await said("2 of 3 points");
    fireEvent.change(field("Filter what is offered"), { target: { value: "block/l" } });
    press("Choose these 1");
    await said("1 point chosen");
    await said("block-level");
    fireEvent.click(screen.getByLabelText("silo"));
    type("Prefix of the names", "north-");
    await waitFor(() => expect(page.sent.at(-1)?.body).toMatchObject({ devices: ["tank", "silo"], names: { prefix: "north-" }, version: null }));
    await waitFor(() => expect(button("Put them into the draft").disabled).toBe(false));
    press("Put them into the draft");
    await said("They are in the draft.");
    const taken = page.sent.filter(({ body }) => body.version === 7);
    expect(taken).toHaveLength(1);
    expect(taken[0]?.body.offers).toEqual([offers[0]]);
  });

  test("with a mistake in what becomes of them are not taken", async () => {
    const problem = { severity: "mistake", object: "point level", message: "the name is there twice", expected: "another prefix" };
    show(panel, "/", { ...DESCRIPTION, [POST]: becomes([problem]) });
    press("Choose all 3");
    await said(/the name is there twice; expected another prefix/);
    await said("3 points chosen; 1 mistake first");
    expect(button("Put them into the draft").disabled).toBe(true);
  });

  test("whose draft has moved stay chosen", async () => {
    const page = show(panel, "/", { ...DESCRIPTION, [POST]: becomes() });
    press("Choose all 3");
    await said("block-level");
    await waitFor(() => expect(button("Put them into the draft").disabled).toBe(false));
    await page.answers({ ...DESCRIPTION, [POST]: refused(409, "somebody has edited the draft meanwhile") });
    press("Put them into the draft");
    await said("somebody has edited the draft meanwhile");
    expect(screen.getAllByRole<HTMLInputElement>("checkbox").filter((box) => box.checked)).toHaveLength(4);
  });
});

describe("several points at once", () => {
  const point = (name: string, unit: string): ObjectView => ({ class: "point", list: "points/tank.csv", name, version: "4", content: { name, address: "input:0", unit } }) as ObjectView;
  const schema = { properties: { name: {}, address: {}, unit: { type: "string" }, rate: { type: "string", "x-refers": "rate" } }, required: ["name", "rate"] };
  const points = [point("level", "%"), point("feed", ""), point("flow", "%")];
  const bulk = (onDone = () => {}) => <BulkChange gateway="alderfen-1" list="points/tank.csv" schema={schema} points={points} names={["level", "feed", "flow"]} rates={["fast", "slow"]} onDone={onDone} />;

  test("get one value, and those that have it already are left alone", async () => {
    const page = show(bulk(() => expect.unreachable("the choice lasts")), "/", { ...DESCRIPTION, [EDITS]: { json: { version: 8 } } });
    expect(button("Set for all").disabled).toBe(true);
    fireEvent.change(field("What to change"), { target: { value: "unit" } });
    type("New Unit", "%");
    press("Set for all");
    await said("1 point changed");
    expect(page.sent[0]?.body.edits.map((edit: { object: { name: string }; version: string }) => [edit.object.name, edit.version])).toEqual([["feed", "4"]]);
  });

  test("that are refused stay chosen, with the reason", async () => {
    show(bulk(() => expect.unreachable()), "/", { ...DESCRIPTION, [EDITS]: refused(409, "grace has changed point feed") });
    fireEvent.change(field("New Rate"), { target: { value: "slow" } });
    press("Set for all");
    await said("grace has changed point feed");
  });
});

describe("what will change", () => {
  const object = { object: { class: "rate", name: "fast" }, change: "added", words: "rate fast added: 1s" };
  const losses = [{ uplink: "cloud", samples: 1200, perhaps: 30, is_online: false }];
  const difference = { version: 12, objects: [object], links: [], uplinks: [], reordered: false, text: "", losses };
  const ACTIVATE = "POST gateways/alderfen-1/activations";
  const service = (more: Service): Service => ({ ...DESCRIPTION, "gateways/alderfen-1/difference": { json: difference }, ...more });

  test("is activated as it was looked at, and samples are thrown away only by who says so", async () => {
    const page = show(<ChangesPage />, "/", service({ [ACTIVATE]: refused(409, "the draft has moved on: look again") }));
    await said(/cloud: 1,200 samples, and perhaps some of 30 in the database, and its broker is away/);
    type("Why", "a faster rate");
    press("Activate the draft");
    await said("the draft has moved on: look again");
    expect(page.sent[0]?.body).toEqual({ version: 12, note: "a faster rate", drop_waiting: false });
    fireEvent.click(screen.getByLabelText("Throw them away instead"));
    press("Activate the draft");
    await waitFor(() => expect(page.sent).toHaveLength(2));
    expect(page.sent[1]?.body.drop_waiting).toBe(true);
  });

  test("is not activated with a mistake, which leads to its place", async () => {
    const mistake = { severity: "mistake", object: "device gas-analyser", message: "unit 300 is no unit", field: "unit", expected: "0 to 255", target: { class: "device", list: "", name: "gas-analyser" } };
    show(<ChangesPage />, "/", service({ [`${DRAFT_PATH}/check`]: { json: { version: 12, mistakes: 1, problems: [mistake] } } }));
    await said("1 mistake first.");
    expect(button("Activate the draft").disabled).toBe(true);
    const way = screen.getByRole<HTMLAnchorElement>("link", { name: /unit 300 is no unit/ });
    expect(way.getAttribute("href")).toMatch(/devices.*gas-analyser.*unit/);
  });
});

describe("a command", () => {
  const point = { id: "a", gateway: "alderfen-1", device: "pump", name: "speed", type: "uint16", unit: "rpm", writable: true, confirm: "none", value: 12, quality: "good" } as unknown as PointView;
  const PUT = "PUT points/alderfen-1/pump/speed/value";
  const outcome: WriteOutcome = { address: "holding:0", answer_ms: 3, frames: [], written: 17.5, raw: 17.5, value: 17.5, unit: "rpm", words: "confirmed", confirmed: true } as unknown as WriteOutcome;

  test("says what the device says then, and takes a decimal comma for what it is", async () => {
    const page = show(<Command point={point} />, "/", { [PUT]: { json: outcome } });
    expect(button("Write").disabled).toBe(true);
    type("New value", "17,5");
    press("Write");
    await said(/Written, reads back 17.5 rpm/);
    expect(page.sent[0]?.body).toEqual({ value: "17.5" });
  });

  test("is asked once, with the old and the new value, unless its point says otherwise", async () => {
    const page = show(<Command point={{ ...point, confirm: "once" }} />, "/", { [PUT]: { json: outcome } });
    type("New value", "17,5");
    press("Write");
    const question = await screen.findByRole("alertdialog");
    expect(question.textContent).toContain("Now12 rpmTo be17.5 rpm");
    press("Leave it");
    expect(page.sent).toEqual([]);
    press("Write");
    press("Write it");
    await said(/Written, reads back 17.5 rpm/);
  });

  test("can ask for the value once more", async () => {
    const page = show(<Command point={{ ...point, confirm: "typed" }} />, "/", { [PUT]: { json: outcome } });
    type("New value", "17,5");
    press("Write");
    expect(button("Write it").disabled).toBe(true);
    type(/^Type 17.5/, "17.5");
    press("Write it");
    await waitFor(() => expect(page.sent[0]?.body).toEqual({ value: "17.5" }));
  });

  test("that the device took and did not follow is no success", async () => {
    show(<Command point={point} />, "/", { [PUT]: { json: { ...outcome, confirmed: false, raw: 12 } } });
    type("New value", "17");
    press("Write");
    await said(/The device took .* but says 12 now/);
    expect(screen.queryByText(/^Written/)).toBeNull();
  });

  test("that was refused, or whose end nobody knows, says why", async () => {
    show(<Command point={point} />, "/", { [PUT]: refused(422, "refused: 40000 is above 1500, the greatest value of pump/speed") });
    type("New value", "40000");
    press("Write");
    await said(/40000 is above 1500/);
  });

  test("is not there for who may not give it", () => {
    show(<Command point={point} />, "/", {}, status(), { ...SOMEBODY, role: "viewer" });
    expect(screen.queryByRole("button")).toBeNull();
  });
});

describe("people", () => {
  const service: Service = { people: { json: [{ name: "ada", role: "administrator", created_at: 0 }, { name: "grace", role: "engineer", created_at: 0 }] }, tokens: { json: [] } };

  test("that are refused stay in the form; nobody removes oneself", async () => {
    const page = show(<PeoplePage />, "/", { ...service, "POST people": refused(409, "grace is there already") });
    await said("grace");
    expect(screen.getAllByRole("button", { name: "Remove" })).toHaveLength(1);
    type("Name", "grace");
    type("First password", "alderfen works 2");
    press("Add");
    await said("grace is there already");
    expect(field("Name").value).toBe("grace");
    await page.answers({ ...service, "POST people": { json: null } });
    press("Add");
    await waitFor(() => expect(field("Name").value).toBe(""));
    expect(page.sent.map(({ body }) => body.role)).toEqual(["viewer", "viewer"]);
  });

  test("keep their role when the service refuses another one", async () => {
    show(<PeoplePage />, "/", { ...service, "PATCH people/grace": refused(422, "somebody has to stay administrator") });
    await said("grace");
    fireEvent.change(field("Role of grace"), { target: { value: "viewer" } });
    await said("somebody has to stay administrator");
    expect(field("Role of grace").value).toBe("engineer");
  });
});
