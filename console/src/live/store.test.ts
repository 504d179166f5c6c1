import { expect, test, vi } from "vitest";
import { LiveStore } from "./store";

const reading = { value: 1, raw: 1, quality: "good", source_at: 1, gateway_at: 1, value_at: 1 };

test("frames are laid over what was known, and listeners are told", () => {
  const store = new LiveStore();
  const listener = vi.fn();
  const leave = store.subscribe(listener);
  store.takeValues({ at: 1, values: [{ id: "a", ...reading }, { id: "b", ...reading }] });
  const before = store.read();
  store.takeValues({ at: 2, values: [{ id: "b", ...reading, value: 2 }] });
  expect([...store.read().readings].map(([id, { value }]) => [id, value])).toEqual([["a", 1], ["b", 2]]);
  expect(before.readings.get("b")?.value).toBe(1);
  leave();
  store.takeValues({ at: 3, values: [] });
  expect(listener).toHaveBeenCalledTimes(2);
});

test("a lost stream keeps what was known and says that it is lost", () => {
  const store = new LiveStore();
  const source = { onerror: null as (() => void) | null, addEventListener: vi.fn(), close: vi.fn() };
  store.open(source as unknown as EventSource);
  store.takeValues({ at: 1, values: [{ id: "a", ...reading }] });
  source.onerror?.();
  expect(store.read().kind).toBe("lost");
  expect(store.read().readings.size).toBe(1);
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
  expect([store.read().kind, store.read().readings.size, sources.length]).toEqual(["lost", 1, 2]);
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
