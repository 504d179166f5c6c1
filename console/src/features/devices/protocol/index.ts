import type { Content } from "../../../api/client";
import { BACNET } from "./bacnet";
import { DNP3 } from "./dnp3";
import { MODBUS } from "./modbus";
import { OPCUA } from "./opcua";
import type { ProtocolParts } from "./parts";

/** Words of links that begin so speak it. */
const PROTOCOLS: [string, ProtocolParts][] = [
  ["modbus-", MODBUS],
  ["opcua", OPCUA],
  ["dnp3-", DNP3],
  ["bacnet-", BACNET],
];

/** The parts of the protocol that a link speaks. */
export function partsOf(link: Content | undefined): ProtocolParts {
  const word = String(link?.protocol ?? "");
  return PROTOCOLS.find(([prefix]) => word.startsWith(prefix))?.[1] ?? MODBUS;
}
