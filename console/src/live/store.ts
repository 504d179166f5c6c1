import type { ReadingView, Status } from "../api/client";

/** What the live stream has told so far. */
export interface Live {
  kind: "connecting" | "live" | "lost";
  status: Status | null;
  readings: ReadonlyMap<string, ReadingView>;
  /** Service time minus the clock of this browser, in milliseconds: ages are counted on the service's clock. */
  clockOffset: number;
}

export const nothing: Live = { kind: "connecting", status: null, readings: new Map(), clockOffset: 0 };

interface Frame {
  at: number;
  values: (ReadingView & { id: string })[];
}

/** A single stream for the whole tab. The browser reconnects it by itself; what was known stays on show meanwhile. */
export class LiveStore {
  #live: Live = nothing;
  #listeners = new Set<() => void>();
  #source: EventSource | null = null;

  subscribe = (listener: () => void): (() => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  read = (): Live => this.#live;

  open(source: EventSource): void {
    this.suspend();
    this.#source = source;
    source.onerror = () => this.#set({ kind: "lost" });
    source.addEventListener("status", (event) => this.takeStatus(JSON.parse(event.data)));
    source.addEventListener("values", (event) => this.takeValues(JSON.parse(event.data)));
  }

  /** Listens no more; what was known stays known. */
  suspend(): void {
    this.#source?.close();
    this.#source = null;
  }

  close(): void {
    this.suspend();
    this.#live = nothing;
  }

  takeStatus(status: Status): void {
    this.#set({ kind: "live", status, clockOffset: status.at - Date.now() });
  }

  takeValues(frame: Frame): void {
    const readings = new Map(this.#live.readings);
    for (const { id, ...reading } of frame.values) readings.set(id, reading);
    this.#set({ kind: "live", readings });
  }

  #set(change: Partial<Live>): void {
    this.#live = { ...this.#live, ...change };
    for (const listener of this.#listeners) listener();
  }
}
