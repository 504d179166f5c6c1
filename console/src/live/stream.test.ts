import { afterEach, expect, test, vi } from "vitest";
import { listen } from "./stream";

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

test("a stream that is refused is opened again, and one that nobody wants is not", () => {
  vi.useFakeTimers();
  const opened: FakeSource[] = [];
  class FakeSource extends EventTarget {
    static readonly CLOSED = 2;
    readyState = 1;
    onerror: (() => void) | null = null;
    constructor(readonly url: string) {
      super();
      opened.push(this);
    }
    close() {
      this.readyState = 2;
    }
  }
  vi.stubGlobal("EventSource", FakeSource);
  const told: string[] = [];
  const end = listen("/a", { message: (data) => told.push(data) });
  opened[0]?.onerror?.();
  vi.advanceTimersByTime(5000);
  expect(opened.length, "a stream that the browser reconnects is left to it").toBe(1);
  opened[0]?.close();
  opened[0]?.onerror?.();
  vi.advanceTimersByTime(5000);
  expect(opened.length).toBe(2);
  opened[1]?.dispatchEvent(new MessageEvent("message", { data: "one" }));
  expect(told).toEqual(["one"]);
  opened[1]?.close();
  opened[1]?.onerror?.();
  end();
  vi.advanceTimersByTime(5000);
  expect(opened.length).toBe(2);
});
