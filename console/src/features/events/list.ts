import type { EventView } from "../../api/client";

/** The last first, by the times of the changes; of one moment, what was told last. Each once. */
export function inOrder(events: readonly EventView[]): EventView[] {
  const once = new Map(events.map((event) => [event.id, event]));
  return [...once.values()].sort((one, other) => other.at - one.at || other.id - one.id);
}

const SAYS: Record<string, string> = {
  synchronized: "",
  unsynchronized: "its clock is not set",
  arrival: "when it arrived",
};

/** What is to be said of a time; nothing where the clock of the device was set. */
export const timeSays = (time: string): string => SAYS[time] ?? time;

/** So much later than it was a change may arrive without a word about it. */
const LATE = 60_000;

/** Whether a change was told long after it was. */
export const isLate = (event: EventView): boolean => event.arrived - event.at > LATE;
