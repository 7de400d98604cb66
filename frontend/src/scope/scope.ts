import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";
import type { Scope } from "../api/client";

export type { Scope } from "../api/client";

const SCOPE_KEYS = ["app", "since", "until", "unit", "segment", "odd_clocks"];
const DAY = /^\d{4}-\d\d-\d\d$/;

export function useScope(): Scope {
  const [address] = useSearchParams();
  const since = address.get("since") ?? "";
  const until = address.get("until") ?? "";
  const unit = address.get("unit") === "users" ? "users" : "sessions";
  const segment = address.get("segment") ?? "";
  const odd = address.get("odd_clocks") === "true";
  return useMemo(
    () => ({
      ...(DAY.test(since) && { since }),
      ...(DAY.test(until) && { until }),
      unit,
      ...(segment && { segment }),
      ...(odd && { odd_clocks: true as const }),
    }),
    [since, until, unit, segment, odd],
  );
}

/** The scope of the journeys behind an open figure: of a group, only the group's. */
export function useOpenedScope(): Scope {
  const scope = useScope();
  const [address] = useSearchParams();
  const [part, by, over] = ["part", "part_by", "part_over"].map((key) => address.get(key));
  return useMemo(() => {
    if (part === null || part === undefined || !(by || over)) {
      return scope;
    }
    const stretch = over === "week" ? "week" : "day";
    return { ...scope, part, ...(by ? { part_by: by } : { part_over: stretch as "day" | "week" }) };
  }, [scope, part, by, over]);
}

/** Parts that change at every key press or drag: going back does not halt at each of them. */
const MOVING = ["step", "journey", "search", "slow", "find"];

/** Read and change parts of the address. A part set to null or "" is taken out. */
export function useAddress() {
  const [address, setAddress] = useSearchParams();
  const change = useCallback(
    (wanted: Record<string, string | number | null>) => {
      // Another figure, or none, is not of the group that the one before was of.
      const parts =
        "figure" in wanted ? { part: null, part_by: null, part_over: null, ...wanted } : wanted;
      const set = Object.keys(parts).filter((key) => parts[key] !== null && parts[key] !== "");
      const replace = set.length > 0 && set.every((key) => MOVING.includes(key));
      setAddress(
        (old) => {
          const next = new URLSearchParams(old);
          for (const [key, value] of Object.entries(parts)) {
            if (value === null || (value === "" && key !== "part")) {
              next.delete(key);
            } else {
              next.set(key, String(value));
            }
          }
          return next;
        },
        { replace },
      );
    },
    [setAddress],
  );
  return [address, change] as const;
}

/** The search part of a link to another view: the scope goes along, the rest is as given. */
export function scopeSearch(address: URLSearchParams, more: Record<string, string> = {}): string {
  const kept = SCOPE_KEYS.flatMap((key) => {
    const value = address.get(key);
    return value ? [[key, value]] : [];
  });
  const search = new URLSearchParams([...kept, ...Object.entries(more)]);
  return search.size ? `?${search}` : "";
}
