import type { Content } from "../../../../api/client";
import { shown } from "../../../description/schema";
import { Identity } from "../Identity";
import type { ProtocolParts } from "../parts";
import { Nothing, Said } from "../Reading";

/** BACnet devices: objects, and their properties. */
export const BACNET: ProtocolParts = {
  first: { address: "analog-input:0" },
  place: (device) => (shown(device.instance) ? `device ${shown(device.instance)}` : shown(device.host)),
  // Inputs can be written while they are out of service; whether a value can only the device knows.
  canBeWritten: (point) => shown(point.address) !== "",
  canBeRelinquished: isPresentValue,
  Brought: Said,
  Alternatives: Nothing,
  Identity,
  lists: [
    { text: "EDE list", path: "ede/points", file: "EDE" },
    { text: "words for states", path: "ede/states", file: "StateTexts" },
  ],
};

/** Only present values have priorities. */
function isPresentValue(point: Content): boolean {
  return /^\s*(analog|binary|multi-state)-(output|value):\d+(\.present-value)?\s*$/.test(shown(point.address));
}
