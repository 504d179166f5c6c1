import { shown } from "../../../description/schema";
import type { ProtocolParts } from "../parts";
import { Identity } from "../Identity";
import { Alternatives, Brought } from "./Reading";

/** Modbus units: registers and bits behind a unit identifier. */
export const MODBUS: ProtocolParts = {
  first: { address: "holding:0", type: "uint16" },
  place: (device) => `unit ${shown(device.unit)}`,
  // Coils and holding registers, also as reference numbers.
  canBeWritten: (point) => /^(coil:|holding:|0\d{4,5}$|4\d{4,5}$)/.test(shown(point.address)),
  Brought,
  Alternatives,
  Identity,
};
