import { configure } from "@testing-library/react";

/** How calls are answered; a test puts its own in this place. Clients keep the `fetch` that they found when they were made. */
export const calls: { answer: (request: Request) => Promise<Response> } = { answer: () => Promise.reject(new Error("nobody answers")) };

/** A browser knows where paths without a host lead. */
class PageRequest extends Request {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://localhost:3000") : input, init);
  }
}

globalThis.Request = PageRequest;
globalThis.fetch = (input, init) => calls.answer(new PageRequest(input, init));

// What browsers have and the test's imitation of one does not.
if (typeof window !== "undefined") {
  window.matchMedia ??= (query: string) => ({ matches: false, media: query, addEventListener() {}, removeEventListener() {}, addListener() {}, removeListener() {}, onchange: null, dispatchEvent: () => false }) as MediaQueryList;
  window.ResizeObserver ??= class {
    observe() {}
    unobserve() {}
    disconnect() {}
  };
}

// A busy machine takes its time to show what was waited for.
configure({ asyncUtilTimeout: 40_000 });
