import { createContext, type ReactNode, useContext, useEffect, useMemo, useState, useSyncExternalStore } from "react";
import { api, type ReadingView } from "../api/client";
import { type Live, type Look, LiveStore } from "./store";

const look: Look = async (stream, points) => {
  const { response } = await api.PUT("/api/v1/live/{stream}", { params: { path: { stream } }, body: { points } });
  return response.ok;
};

const LiveContext = createContext<LiveStore>(new LiveStore());

/**
 * Opens the live stream for everything below it, as long as the tab is looked at: browsers give all tabs together six
 * connections, and a stream takes one.
 */
export function LiveProvider({ onLost, children }: { onLost?: () => void; children: ReactNode }) {
  const [store] = useState(() => new LiveStore(look));
  useEffect(() => {
    const follow = () => (document.hidden ? store.suspend() : store.follow(() => new EventSource("/api/v1/live?view=true")));
    const leave = () => store.suspend();
    follow();
    document.addEventListener("visibilitychange", follow);
    window.addEventListener("pagehide", leave);
    return () => {
      document.removeEventListener("visibilitychange", follow);
      window.removeEventListener("pagehide", leave);
      store.close();
    };
  }, [store]);
  useEffect(() => {
    let last = store.read().kind;
    return store.subscribe(() => {
      const { kind } = store.read();
      document.documentElement.dataset.live = kind;
      if (kind === "lost" && last !== "lost") onLost?.();
      last = kind;
    });
  }, [store, onLost]);
  return <LiveContext.Provider value={store}>{children}</LiveContext.Provider>;
}

export function useLive(): Live {
  const store = useContext(LiveContext);
  return useSyncExternalStore(store.subscribe, store.read);
}

/** Whether what is shown is live. */
export function useLiveKind(): Live["kind"] {
  const store = useContext(LiveContext);
  return useSyncExternalStore(store.subscribe, () => store.read().kind);
}

/** The newest readings of these points, for as long as they are in view. */
export function useReadings(ids: readonly string[]): ReadonlyMap<string, ReadingView> {
  const store = useContext(LiveContext);
  const key = ids.join("\n");
  // The list may be made anew at every turn: what counts is what stands in it.
  const view = useMemo(() => store.view(key === "" ? [] : key.split("\n")), [store, key]);
  return useSyncExternalStore(view.subscribe, view.read);
}

/** The service's time, once a second: what ages are counted from. */
export function useServiceNow(): number {
  const store = useContext(LiveContext);
  const clockOffset = useSyncExternalStore(store.subscribe, () => store.read().clockOffset);
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return now + clockOffset;
}
