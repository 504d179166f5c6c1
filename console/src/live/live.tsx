import { createContext, type ReactNode, useContext, useEffect, useState, useSyncExternalStore } from "react";
import { type Live, LiveStore } from "./store";

const LiveContext = createContext<LiveStore>(new LiveStore());

/** Opens the live stream for everything below it. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const [store] = useState(() => new LiveStore());
  useEffect(() => {
    store.open(new EventSource("/api/v1/live"));
    return () => store.close();
  }, [store]);
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
