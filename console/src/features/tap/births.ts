import { useEffect } from "react";
import { api, dataOf } from "../../api/client";
import { useMay } from "../session/may";

/** A value that changes arrives by itself; after so long it seems to stand still. */
const STANDS_STILL = 3000;

/**
 * Lets an uplink tell everything anew as long as something that somebody looks for has not arrived: values that stand still
 * are published no second time. The service does so at most every ten seconds.
 */
export function useBirths(gateway: string, uplink: string | undefined, isMissing: boolean) {
  const may = useMay("operator");
  const isWanted = may && isMissing && uplink !== undefined;
  useEffect(() => {
    if (!isWanted) return undefined;
    let left = 5;
    const ask = async () => {
      if (left-- <= 0) return;
      // It is asked again as long as it is missing; what keeps it away is told by the status of the uplink.
      await dataOf(api.POST("/api/v1/gateways/{gateway}/uplinks/{uplink}/births", { params: { path: { gateway, uplink } } })).catch(() => undefined);
    };
    const timer = window.setInterval(() => void ask(), STANDS_STILL);
    return () => window.clearInterval(timer);
  }, [gateway, uplink, isWanted]);
}
