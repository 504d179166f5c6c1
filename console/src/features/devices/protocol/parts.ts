import type { ComponentType } from "react";
import type { Content, TrialReading } from "../../../api/client";

/** What a protocol has of its own on the pages of links and devices. */
export interface ProtocolParts {
  /** What the first trial of a new device asks for. */
  first: Content;
  /** Who a device is on its link. */
  place: (device: Content) => string;
  /** Whether clients may write to where a point lives. */
  canBeWritten: (point: Content) => boolean;
  /** Whether a command to where a point lives can be given back; left out where none can. */
  canBeRelinquished?: (point: Content) => boolean;
  /** What a reading brought, as the protocol has it. */
  Brought: ComponentType<{ reading: TrialReading }>;
  /** What else the same answer could mean. */
  Alternatives: ComponentType<{ reading: TrialReading }>;
  /** In which forms its points can be saved for programs of others: the words of the link, and what follows the path of the device. */
  lists?: { text: string; path: string; file: string }[];
  /** How a device says who it is; left out where it cannot. */
  Identity?: ComponentType<{ gateway: string; link: Content; device: Content }>;
}
