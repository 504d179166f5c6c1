import { Notice } from "../../components/Notice";
import { type Role, useWho } from "./may";

/** Says which role something takes, in the place of what the person may not do. */
export function Takes({ role, what }: { role: Role; what: string }) {
  const who = useWho();
  return <Notice title={`${what} takes the role ${role}${who ? `; ${who.name} has the role ${who.role}` : ""}`} />;
}
