import { date } from "../../format";
import { type Scope, useAddress } from "../../scope/scope";
import { partsOf, type Segment, segmentWords, written } from "../../scope/segment";

/** Two groups: values of a property, or segments; the second may be all others. */
export interface Sides {
  one: string;
  other: string;
  by?: string;
}

export const OTHERS = "all others";

/** The two groups that the address names; none where it names no first one. */
export function useSides(): Sides | null {
  const [address] = useAddress();
  const one = address.get("one");
  const by = address.get("by");
  if (one === null) {
    return null;
  }
  return { one, other: address.get("other") ?? "", ...(by && { by }) };
}

function segmentOf(text: string): Segment | null {
  return partsOf(text).length ? (JSON.parse(text) as Segment) : null;
}

/** What a side is called. */
export function sideName(sides: Sides, side: "one" | "other"): string {
  const own = sides[side];
  if (side === "other" && own === "" && !sides.by) {
    return OTHERS;
  }
  if (sides.by) {
    return own || (side === "other" ? OTHERS : "not told");
  }
  const segment = segmentOf(own);
  if (segment && ("since" in segment || "until" in segment)) {
    const [since, until] = [segment.since, segment.until].map((day) => day && date(+new Date(day)));
    return `${since ?? "the start"} – ${until ?? "the end"}`;
  }
  return segment ? segmentWords(segment) : own;
}

/** The scope of one side. */
export function scopeOf(scope: Scope, sides: Sides, side: "one" | "other"): Scope {
  const own = sides[side];
  if (sides.by && (own || side === "one")) {
    return { ...scope, part: own, part_by: sides.by };
  }
  const one: Segment | null = sides.by
    ? { property: sides.by, values: [sides.one] }
    : segmentOf(sides.one);
  const segment = own ? segmentOf(own) : one && { not: one };
  return segment ? { ...scope, segment: written([...partsOf(scope.segment), segment]) } : scope;
}

/** Where a figure is looked at in its own view, with the two groups set as far as that knows them. */
export function inView(sides: Sides, figure: string, measure: string): Record<string, string> {
  const own = { figure, of: measure };
  if (sides.by && sides.other) {
    return { ...own, by: sides.by, one: sides.one, other: sides.other, split: `by:${sides.by}` };
  }
  const one = sides.by ? written([{ property: sides.by, values: [sides.one] }]) : sides.one;
  return { ...own, segment: one };
}
