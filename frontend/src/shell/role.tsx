import { createContext, type ReactNode, useContext } from "react";
import type { Role } from "../api/team";

const ROLES: Role[] = ["read", "work", "manage"];
const Own = createContext<Role>("manage");

/** Tells all within it what whoever is at the page may do with the app. */
export function RoleProvider({ own, children }: { own: Role; children: ReactNode }) {
  return <Own.Provider value={own}>{children}</Own.Provider>;
}

/** What is there for those alone who may do what takes this role. */
export function ForRole({ least, children }: { least: Role; children: ReactNode }) {
  return useMay(least) && children;
}

/** Whether they may do what takes this role: each may do what those before it may. */
export function useMay(role: Role): boolean {
  return ROLES.indexOf(useContext(Own)) >= ROLES.indexOf(role);
}
