import type { DeviceStatus, LinkStatus, PointView, Status } from "../../api/client";

/** Where a point comes from, as it runs. */
export interface Origin {
  link: LinkStatus | undefined;
  device: DeviceStatus | undefined;
}

export function originOf(point: PointView, status: Status | null): Origin {
  const links = status?.gateways.find((gateway) => gateway.name === point.gateway)?.links ?? [];
  for (const link of links) {
    const device = link.devices.find((known) => known.name === point.device);
    if (device) return { link, device };
  }
  return { link: undefined, device: undefined };
}

/** Why a value is not to be relied on, in whole words, and what to do about it; nothing where it is good. */
export function whyOf(point: PointView, { link, device }: Origin): { what: string; action: string } | null {
  const reason = point.reason ?? "";
  if (point.quality === "good") return null;
  if (link && link.state !== "up") {
    return {
      what: `The link ${link.name} is ${link.state === "down" ? "down" : "not up yet"}${link.last_error ? `: ${link.last_error}` : ""}.`,
      action: "Look at power, cable and address of what is at the other end: all its points wait for that.",
    };
  }
  if (device?.state === "silent") {
    return {
      what: `${point.device} does not answer${device.last_error ? `: ${device.last_error}` : ""}.`,
      action: "Look at its power, its cable and its address: the link itself works.",
    };
  }
  if (/exception 0?2|illegal data address|unknown-object|unknown-property|BadNodeIdUnknown|no such/i.test(reason)) {
    return { what: `${point.device} answers that it has nothing at ${point.address} (${reason}).`, action: "Compare the address with the manual, and mend it: its settings are one step away." };
  }
  if (/exception/i.test(reason)) return { what: `${point.device} answers, and refuses to read ${point.address}: ${reason}.`, action: "Compare address and type with the manual." };
  switch (reason) {
    case "never read":
    case "not read yet":
      return { what: "It was not read yet.", action: "It comes with its next poll; ask the device now to know sooner." };
    case "timeout":
      return { what: `${point.device} did not answer when it was asked for ${point.address}.`, action: "Ask the device now: if others of its points answer, this address is what it cannot answer." };
    case "out of range":
      return { what: `The value is outside of its limits, ${point.low ?? "…"} to ${point.high ?? "…"} ${point.unit}.`, action: "Look at the plant; or at scale, word order and limits, if the display says otherwise." };
    case "stale":
      return { what: "It was not refreshed for several periods.", action: "Look at what the link has to do: its polls may come late." };
    default:
      return { what: `${point.device} says: ${reason || point.quality}.`, action: "Look at the device: the value is the last that it gave." };
  }
}

/** A stretch of time in which the quality stayed. */
export interface Stretch {
  from: number;
  to: number;
  good: boolean;
}

/** How the quality went, the last stretch first. */
export function stretchesOf(moments: readonly { at: number; good: boolean }[]): Stretch[] {
  const stretches: Stretch[] = [];
  for (const { at, good } of moments) {
    const last = stretches.at(-1);
    if (last && last.good === good) last.to = at;
    else {
      if (last) last.to = at;
      stretches.push({ from: at, to: at, good });
    }
  }
  return stretches.reverse();
}
