import { useQuery } from "@tanstack/react-query";
import type { SignedIn } from "../../api/client";
import { sessionQuery } from "../../api/queries";

const ROLES = ["viewer", "operator", "engineer", "administrator"] as const;
export type Role = (typeof ROLES)[number];

/** Whether a role may what another one may. The service decides; this only spares people buttons that it would refuse. */
export function includes(role: string, wanted: Role): boolean {
  return ROLES.findIndex((known) => known === role) >= ROLES.indexOf(wanted);
}

let last: SignedIn | null = null;

/** Who is signed in, or was until the session ended: a page stays as it is until the person has signed in again. */
export function useWho(): SignedIn | null {
  const session = useQuery(sessionQuery);
  if (session.data) last = session.data;
  return session.data ?? last;
}

/** Nobody is to be asked back. */
export function forgetWho(): void {
  last = null;
}

/** Whether the person who is signed in may do what a role may. */
export function useMay(wanted: Role): boolean {
  const who = useWho();
  return who !== null && includes(who.role, wanted);
}

export { ROLES };
