import type { ReadingView, Status } from "../api/client";

/** What the live stream has told so far. */
export interface Live {
  kind: "connecting" | "live" | "lost";
  status: Status | null;
  /** Service time minus the clock of this browser, in milliseconds: ages are counted on the service's clock. */
  clockOffset: number;
}

export const nothing: Live = { kind: "connecting", status: null, clockOffset: 0 };

interface Frame {
  at: number;
  values: (ReadingView & { id: string })[];
}

/** The service tells its status every second: when it was silent for so long, what is shown is not live. */
const SILENCE = 4000;
/** How long a connection may take to say something, before the next one is tried. */
const PATIENCE = 5000;

/** Tells the service which points are in view, so that it tells those; whether it knows the stream. */
export type Look = (stream: number, points: string[]) => Promise<boolean>;
/** So many the service takes. */
const MOST_IN_VIEW = 1000;
/** How long what is in view has to stay there, and how long it takes until what failed is said again, in milliseconds. */
const TURN = 40;
const AGAIN = 1000;

/** The readings of some points that somebody looks at. */
export interface View {
  subscribe: (listener: () => void) => () => void;
  read: () => ReadonlyMap<string, ReadingView>;
}

interface Viewer {
  ids: readonly string[];
  readings: ReadonlyMap<string, ReadingView>;
  listener: () => void;
}

/**
 * A single stream for the whole tab; what was known stays on show when it is lost. A browser reconnects a stream that ends,
 * but not one that falls silent: a network that swallows, a proxy, a laptop that slept. It tells the points that are in view,
 * however many there are.
 */
export class LiveStore {
  #live: Live = nothing;
  #listeners = new Set<() => void>();
  #source: EventSource | null = null;
  #heard = 0;
  #opened = 0;
  #watch: ReturnType<typeof setInterval> | undefined;
  #look: Look;
  /** The stream's number, to which is said what is in view. */
  #stream: number | null = null;
  #readings = new Map<string, ReadingView>();
  #viewers = new Set<Viewer>();
  #turn: ReturnType<typeof setTimeout> | undefined;
  #isLooking = false;

  constructor(look: Look = () => Promise.resolve(true)) {
    this.#look = look;
  }

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
    this.#watch = setInterval(() => this.#listen(connect), 1000);
  }

  #listen(connect: () => EventSource): void {
    const now = Date.now();
    if (now - this.#heard < SILENCE) return;
    if (this.#live.kind !== "lost") this.#set({ kind: "lost" });
    if (now - this.#opened >= PATIENCE) this.open(connect());
  }

  open(source: EventSource): void {
    this.#source?.close();
    this.#source = source;
    this.#opened = Date.now();
    this.#stream = null;
    source.onerror = () => this.#set({ kind: "lost" });
    source.addEventListener("opened", (event) => this.takeOpened(JSON.parse(event.data)));
    source.addEventListener("status", (event) => this.takeStatus(JSON.parse(event.data)));
    source.addEventListener("values", (event) => this.takeValues(JSON.parse(event.data)));
  }

  /** Listens no more; what was known stays known. */
  suspend(): void {
    clearInterval(this.#watch);
    this.#source?.close();
    this.#source = null;
    this.#stream = null;
    if (this.#live.kind === "live") this.#set({ kind: "connecting" });
  }

  close(): void {
    this.suspend();
    clearTimeout(this.#turn);
    this.#live = nothing;
    this.#readings.clear();
  }

  /** The readings of these points, as long as somebody subscribes to them. */
  view(ids: readonly string[]): View {
    const viewer: Viewer = { ids, readings: this.#of(ids), listener: () => undefined };
    return {
      subscribe: (listener) => {
        viewer.listener = listener;
        this.#viewers.add(viewer);
        this.#turnTo();
        return () => {
          this.#viewers.delete(viewer);
          this.#turnTo();
        };
      },
      read: () => viewer.readings,
    };
  }

  #of(ids: readonly string[]): ReadonlyMap<string, ReadingView> {
    const known = (id: string): [string, ReadingView][] => {
      const reading = this.#readings.get(id);
      return reading ? [[id, reading]] : [];
    };
    return new Map(ids.flatMap(known));
  }

  /** Says what is in view now, once for all that changes at the same time. */
  #turnTo(wait = TURN): void {
    clearTimeout(this.#turn);
    this.#turn = setTimeout(() => void this.#say(), wait);
  }

  async #say(): Promise<void> {
    const stream = this.#stream;
    if (stream === null || this.#isLooking) return;
    const wanted = new Set([...this.#viewers].flatMap(({ ids }) => ids));
    // What nobody looks at is not told any more: it would grow old.
    for (const id of this.#readings.keys()) if (!wanted.has(id)) this.#readings.delete(id);
    this.#isLooking = true;
    const isTold = await this.#look(stream, [...wanted].slice(0, MOST_IN_VIEW)).catch(() => false);
    this.#isLooking = false;
    const isSame = [...this.#viewers].every(({ ids }) => ids.every((id) => wanted.has(id)));
    // A stream that is not known any more ends, and the next one says its own number.
    if (this.#stream !== null && (!isTold || !isSame || this.#stream !== stream)) this.#turnTo(isTold ? TURN : AGAIN);
  }

  takeOpened({ stream }: { stream: number }): void {
    this.#stream = stream;
    this.#turnTo();
  }

  takeStatus(status: Status): void {
    this.#heard = Date.now();
    this.#set({ kind: "live", status, clockOffset: status.at - Date.now() });
  }

  takeValues(frame: Frame): void {
    const told = new Set<string>();
    for (const { id, ...reading } of frame.values) {
      this.#readings.set(id, reading);
      told.add(id);
    }
    for (const viewer of this.#viewers) {
      if (!viewer.ids.some((id) => told.has(id))) continue;
      viewer.readings = this.#of(viewer.ids);
      viewer.listener();
    }
    this.#heard = Date.now();
    if (this.#live.kind !== "live") this.#set({ kind: "live" });
  }

  #set(change: Partial<Live>): void {
    this.#live = { ...this.#live, ...change };
    for (const listener of this.#listeners) listener();
  }
}
