import { useQuery } from "@tanstack/react-query";
import { sessionQuery } from "../../api/queries";

const ROLES = ["viewer", "operator", "engineer", "administrator"] as const;
export type Role = (typeof ROLES)[number];

/** Whether a role may what another one may. The service decides; this only spares people buttons that it would refuse. */
export function includes(role: string, wanted: Role): boolean {
  return ROLES.findIndex((known) => known === role) >= ROLES.indexOf(wanted);
}

/** Whether the person who is signed in may do what a role may. */
export function useMay(wanted: Role): boolean {
  const session = useQuery(sessionQuery);
  return session.data ? includes(session.data.role, wanted) : false;
}

export { ROLES };
