import type { ProtocolParts } from "../parts";
import { Identity } from "../Identity";
import { shown } from "../../../description/schema";
import { Nothing, Said } from "../Reading";

/** OPC UA servers: nodes of an address space. */
export const OPCUA: ProtocolParts = {
  // The time of the server, which every server has.
  first: { address: "i=2258" },
  place: (device) => shown(device.start) || "server",
  // Whether it can be written only the server knows.
  canBeWritten: (point) => shown(point.address) !== "",
  Brought: Said,
  Alternatives: Nothing,
  Identity,
};
