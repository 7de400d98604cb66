import type { MapView } from "../../api/client";

type Move = Pick<MapView["moves"][number], "from" | "to" | "by" | "journeys">;

const ONWARD = new Set(["push", "replace", "open_modal"]);
const LONGEST = 4;
const PROPOSED = 3;
/** A way that so few go is none that a funnel tells much of. */
const FEWEST = 30;

/** Ways onward that many go, from where most set out: screens, each the most usual after the last. */
export function proposed(moves: readonly Move[]): string[][] {
  const ways = new Map<string, Move[]>();
  for (const move of [...moves].sort((a, b) => b.journeys - a.journeys)) {
    if (ONWARD.has(move.by) && move.from !== move.to && move.journeys >= FEWEST) {
      ways.set(move.from, [...(ways.get(move.from) ?? []), move]);
    }
  }
  const starts = [...ways].sort((a, b) => (b[1][0]?.journeys ?? 0) - (a[1][0]?.journeys ?? 0));
  const found: string[][] = [];
  for (const [start] of starts) {
    const way = followed(start, ways);
    const known = found.some(
      (one) => way.filter((screen) => one.includes(screen)).length >= way.length / 2,
    );
    if (way.length > 2 && !known && found.length < PROPOSED) {
      found.push(way);
    }
  }
  return found;
}

function followed(start: string, ways: Map<string, Move[]>): string[] {
  const way = [start];
  while (way.length < LONGEST) {
    const next = ways.get(way.at(-1) ?? "")?.find((move) => !way.includes(move.to));
    if (!next) {
      break;
    }
    way.push(next.to);
  }
  return way;
}
