import type { ProtocolParts } from "../parts";
import { Outstation } from "./Outstation";
import { Nothing, Said } from "../Reading";
import { shown } from "../../../description/schema";

/** DNP3 outstations: points by what they are, and an index. */
export const DNP3: ProtocolParts = {
  first: { address: "binary:0" },
  place: (device) => `outstation ${shown(device.address)}`,
  canBeWritten: (point) => /^\s*(binary|analog)-output:/.test(shown(point.address)),
  Brought: Said,
  Alternatives: Nothing,
  Identity: Outstation,
};
