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

/** The service tells its status every second: when it was silent for so long, what is shown is not live. */
const SILENCE = 4000;
/** How long a connection may take to say something, before the next one is tried. */
const PATIENCE = 5000;

/**
 * A single stream for the whole tab; what was known stays on show when it is lost. A browser reconnects a stream that ends,
 * but not one that falls silent: a network that swallows, a proxy, a laptop that slept.
 */
export class LiveStore {
  #live: Live = nothing;
  #listeners = new Set<() => void>();
  #source: EventSource | null = null;
  #heard = 0;
  #opened = 0;
  #watch: ReturnType<typeof setInterval> | undefined;

  subscribe = (listener: () => void): (() => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  read = (): Live => this.#live;

  /** Keeps a stream open, a new one whenever the last one is silent. */
  follow(connect: () => EventSource): void {
    this.suspend();
    this.#heard = Date.now();
    this.open(connect());
    this.#watch = setInterval(() => this.#look(connect), 1000);
  }

  #look(connect: () => EventSource): void {
    const now = Date.now();
    if (now - this.#heard < SILENCE) return;
    if (this.#live.kind !== "lost") this.#set({ kind: "lost" });
    if (now - this.#opened >= PATIENCE) this.open(connect());
  }

  open(source: EventSource): void {
    this.#source?.close();
    this.#source = source;
    this.#opened = Date.now();
    source.onerror = () => this.#set({ kind: "lost" });
    source.addEventListener("status", (event) => this.takeStatus(JSON.parse(event.data)));
    source.addEventListener("values", (event) => this.takeValues(JSON.parse(event.data)));
  }

  /** Listens no more; what was known stays known. */
  suspend(): void {
    clearInterval(this.#watch);
    this.#source?.close();
    this.#source = null;
    if (this.#live.kind === "live") this.#set({ kind: "connecting" });
  }

  close(): void {
    this.suspend();
    this.#live = nothing;
  }

  takeStatus(status: Status): void {
    this.#heard = Date.now();
    this.#set({ kind: "live", status, clockOffset: status.at - Date.now() });
  }

  takeValues(frame: Frame): void {
    const readings = new Map(this.#live.readings);
    for (const { id, ...reading } of frame.values) readings.set(id, reading);
    this.#heard = Date.now();
    this.#set({ kind: "live", readings });
  }

  #set(change: Partial<Live>): void {
    this.#live = { ...this.#live, ...change };
    for (const listener of this.#listeners) listener();
  }
}
