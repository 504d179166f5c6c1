import { createContext, type ReactNode, useContext, useEffect, useState, useSyncExternalStore } from "react";
import { type Live, LiveStore } from "./store";

const LiveContext = createContext<LiveStore>(new LiveStore());

/**
 * Opens the live stream for everything below it, as long as the tab is looked at: browsers give all tabs together six
 * connections, and a stream takes one.
 */
export function LiveProvider({ onLost, children }: { onLost?: () => void; children: ReactNode }) {
  const [store] = useState(() => new LiveStore());
  useEffect(() => {
    const follow = () => (document.hidden ? store.suspend() : store.follow(() => new EventSource("/api/v1/live")));
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

/** The service's time, once a second: what ages are counted from. */
export function useServiceNow(): number {
  const { clockOffset } = useLive();
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return now + clockOffset;
}
