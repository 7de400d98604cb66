import type { Schemas } from "../../api/client";
import { words } from "../../format";

export type Spec = Schemas["FunnelSpec"];
export type StageSpec = Schemas["StageSpec"];
export type Clause = Schemas["ClauseSpec"];

/** A funnel as it is written: what is as it is by itself is left out. */
export interface Written {
  stages: { name?: string; any: Partial<Clause>[] }[];
  order?: Spec["order"];
  window?: number | null;
  void?: string[];
  held?: string;
  count?: Spec["count"];
  first_ever?: boolean;
}

export const ORDERS: Record<Spec["order"], string> = {
  in_order: "in order, anything between",
  next: "each right after the one before",
  any: "in any order",
};

/** The funnel in the address, or null where there is none that can be read. */
export function readSpec(text: string | null): Written | null {
  try {
    const found = JSON.parse(text ?? "") as Written;
    return Array.isArray(found.stages) && found.stages.length ? found : null;
  } catch {
    return null;
  }
}

/** The same without what is left out. */
export function plainSpec(spec: Written): Written {
  const stages = spec.stages.map((stage) => ({
    ...(stage.name && { name: stage.name }),
    any: stage.any.map(plainClause),
  }));
  return {
    stages,
    ...(spec.order && spec.order !== "in_order" && { order: spec.order }),
    ...(spec.window && { window: spec.window }),
    ...(spec.void?.length && { void: spec.void }),
    ...(spec.held && { held: spec.held }),
    ...(spec.count === "attempts" && { count: spec.count }),
    ...(spec.first_ever && { first_ever: true }),
  };
}

function plainClause(clause: Partial<Clause>): Partial<Clause> {
  const some = Object.entries(clause).filter(([, value]) =>
    typeof value === "string"
      ? value
      : Array.isArray(value)
        ? value.length
        : Object.keys(value ?? {}).length,
  );
  return Object.fromEntries(some);
}

/** The kinds of condition that a stage is built of, and what each is called. */
export const KINDS = {
  screens: "screen",
  roles: "role",
  tabs: "tab",
  moves: "move",
  event: "event",
  pattern: "kept pattern",
} as const;
export type Kind = keyof typeof KINDS;

export function clauseOf(kind: Kind, value: string): Partial<Clause> {
  if (kind === "event") {
    const [event = "", outcome = ""] = value.split(" ");
    return outcome ? { event, outcome } : { event };
  }
  return kind === "pattern" ? { pattern: value } : { [kind]: [value] };
}

export function clauseWords(clause: Partial<Clause>): string {
  const { screens, roles, moves, tabs, event, outcome, params, properties, pattern } = clause;
  const lists = (objects: Record<string, string[]> | undefined) =>
    Object.entries(objects ?? {}).map(([key, values]) => `${key} ${values.join(" or ")}`);
  return [
    ...(screens?.length ? [screens.join(" or ")] : []),
    ...(roles?.length ? [`a ${roles.map(words).join(" or ")} screen`] : []),
    ...(tabs?.length ? [`in ${tabs.length > 2 ? "a tab" : tabs.join(" or ")}`] : []),
    ...(moves?.length ? [`by ${moves.map(words).join(" or ")}`] : []),
    ...(event ? [`${words(event)}${outcome ? ` ${outcome}` : ""}`] : []),
    ...(pattern ? [`the end of ${pattern}`] : []),
    ...lists(params),
    ...lists(properties),
  ].join(", ");
}

export function stageWords(stage: Written["stages"][number]): string {
  return stage.name || stage.any.map(clauseWords).join(" or ");
}

/** The screens of a journey as stages: each at its first visit, the first few. */
export function specOfScreens(screens: string[]): Written {
  const most = 8;
  const once = [...new Set(screens)].slice(0, most);
  return { stages: once.map((screen) => ({ any: [{ screens: [screen] }] })) };
}
