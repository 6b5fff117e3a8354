/** Who is signed in, for the pages inside the shell. */
import { createContext, useContext } from "react";
import type { Person } from "./api";

export const Session = createContext<Person>({ name: "", role: "viewer", organisation: "" });
export const useSession = () => useContext(Session);

const ROLES = ["viewer", "operator", "integrator", "admin"];

export function mayAtLeast(person: Person, role: string): boolean {
  return ROLES.indexOf(person.role) >= ROLES.indexOf(role);
}
