import { expect, test, vi } from "vitest";
import { LiveStore } from "./store";

const reading = { value: 1, raw: 1, quality: "good", source_at: 1, gateway_at: 1, value_at: 1 };

test("frames are laid over what was known, and those are told who look at them", () => {
  const store = new LiveStore();
  const [one, both] = [store.view(["a"]), store.view(["a", "b"])];
  const [listener, other] = [vi.fn(), vi.fn()];
  const leave = one.subscribe(listener);
  both.subscribe(other);
  store.takeValues({ at: 1, values: [{ id: "a", ...reading }, { id: "b", ...reading }] });
  const before = both.read();
  store.takeValues({ at: 2, values: [{ id: "b", ...reading, value: 2 }] });
  expect([...both.read()].map(([id, { value }]) => [id, value])).toEqual([["a", 1], ["b", 2]]);
  expect([before.get("b")?.value, one.read().size]).toEqual([1, 1]);
  leave();
  store.takeValues({ at: 3, values: [{ id: "a", ...reading }] });
  expect([listener.mock.calls.length, other.mock.calls.length]).toEqual([1, 3]);
});

test("the stream is told what is in view, once for all that changes, anew by every stream, and again when that failed", async () => {
  vi.useFakeTimers();
  const told: [number, string[]][] = [];
  const answers = [true, true, false, true];
  const store = new LiveStore(async (stream, points) => {
    told.push([stream, points]);
    return answers.shift() ?? true;
  });
  const leave = store.view(["a", "b"]).subscribe(() => undefined);
  await vi.advanceTimersByTimeAsync(40);
  expect(told).toEqual([]);
  store.takeOpened({ stream: 1 });
  store.view(["b", "c"]).subscribe(() => undefined);
  await vi.advanceTimersByTimeAsync(40);
  expect(told.splice(0)).toEqual([[1, ["a", "b", "c"]]]);
  leave();
  await vi.advanceTimersByTimeAsync(40);
  expect(told.splice(0)).toEqual([[1, ["b", "c"]]]);
  store.takeOpened({ stream: 2 });
  await vi.advanceTimersByTimeAsync(40);
  expect(told.splice(0)).toEqual([[2, ["b", "c"]]]);
  await vi.advanceTimersByTimeAsync(1000);
  expect(told).toEqual([[2, ["b", "c"]]]);
  vi.useRealTimers();
});

test("a lost stream keeps what was known and says that it is lost", () => {
  const store = new LiveStore();
  const source = { onerror: null as (() => void) | null, addEventListener: vi.fn(), close: vi.fn() };
  store.open(source as unknown as EventSource);
  const view = store.view(["a"]);
  view.subscribe(() => undefined);
  store.takeValues({ at: 1, values: [{ id: "a", ...reading }] });
  source.onerror?.();
  expect(store.read().kind).toBe("lost");
  expect(view.read().size).toBe(1);
  store.close();
  expect(source.close).toHaveBeenCalled();
});

test("a stream that falls silent is lost within five seconds, and a new one takes its place", () => {
  vi.useFakeTimers({ now: 1_000_000 });
  const store = new LiveStore();
  const sources: { addEventListener: (name: string, take: (event: { data: string }) => void) => void; close: () => void }[] = [];
  const tell: ((event: { data: string }) => void)[] = [];
  store.follow(() => {
    const source = {
      addEventListener: (name: string, take: (event: { data: string }) => void) => void (name === "values" && tell.push(take)),
      close: vi.fn(),
    };
    sources.push(source);
    return source as unknown as EventSource;
  });
  tell[0]?.({ data: JSON.stringify({ at: 1, values: [{ id: "a", ...reading }] }) });
  vi.advanceTimersByTime(3000);
  expect(store.read().kind).toBe("live");
  vi.advanceTimersByTime(2000);
  expect([store.read().kind, sources.length]).toEqual(["lost", 2]);
  expect(sources[0]?.close).toHaveBeenCalled();
  tell[1]?.({ data: JSON.stringify({ at: 2, values: [] }) });
  expect(store.read().kind).toBe("live");
  store.close();
  vi.advanceTimersByTime(60_000);
  expect(sources.length).toBe(2);
  vi.useRealTimers();
});

test("ages are counted on the service's clock", () => {
  const store = new LiveStore();
  vi.useFakeTimers({ now: 5000 });
  store.takeStatus({ at: 65_000, version: "", database: { up: true, since: 0 }, gateways: [], needs: [] });
  expect(store.read().clockOffset).toBe(60_000);
  vi.useRealTimers();
});
