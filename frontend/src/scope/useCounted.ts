import { useCallback } from "react";
import type { Count } from "../api/client";
import { useScope } from "./scope";

/** How often something happened; or of how many users, if users are counted. */
export function useCounted() {
  const { unit } = useScope();
  return useCallback((own: Count) => (unit === "users" ? own.users : own.times), [unit]);
}
