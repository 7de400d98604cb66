import { words } from "../format";
import { figureWords, partWords } from "./figures";

/** Which journeys a question is asked of; see docs/segments.md. */
export type Segment =
  | { all: Segment[] }
  | { any: Segment[] }
  | { not: Segment }
  | { users_with: Segment }
  | { property: string; values: string[] }
  | { screen: string }
  | { mark: string }
  | { move: string }
  | { start: string }
  | { exit: string }
  | { users: string[] }
  | { since?: string; until?: string }
  | { measure: string; figure: string; part?: string; part_by?: string; part_over?: string };

/** The parts of a segment that must all hold. */
export function partsOf(text: string | undefined): Segment[] {
  if (!text) {
    return [];
  }
  try {
    const segment = JSON.parse(text) as Segment;
    return "all" in segment ? segment.all : [segment];
  } catch {
    return [];
  }
}

/** A segment of parts that must all hold, as it stands in the address; empty for no part. */
export function written(parts: Segment[]): string {
  const [only, ...more] = parts;
  if (!only) {
    return "";
  }
  return JSON.stringify(more.length ? { all: parts } : only);
}

export function segmentWords(segment: Segment): string {
  if ("all" in segment) {
    return segment.all.map(inBrackets).join(" and ");
  }
  if ("any" in segment) {
    return segment.any.map(inBrackets).join(" or ");
  }
  if ("not" in segment) {
    return `not ${inBrackets(segment.not)}`;
  }
  if ("users_with" in segment) {
    return `users with a session that: ${segmentWords(segment.users_with)}`;
  }
  if ("property" in segment) {
    return `${segment.property} ${segment.values.map((value) => value || "not told").join(" or ")}`;
  }
  if ("screen" in segment) {
    return `saw ${segment.screen}`;
  }
  if ("mark" in segment) {
    return words(segment.mark);
  }
  if ("move" in segment) {
    return `with a ${words(segment.move)}`;
  }
  if ("start" in segment) {
    return segment.start === "link" ? "came by a link" : `${segment.start} start`;
  }
  if ("exit" in segment) {
    return `ended ${words(segment.exit)}`;
  }
  if ("users" in segment) {
    return segment.users.length === 1
      ? `user ${segment.users[0]}`
      : `${segment.users.length} users`;
  }
  if ("measure" in segment) {
    return figureWords(segment.measure, segment.figure) + partWords(segment);
  }
  return `${segment.since ? `from ${segment.since}` : ""} ${segment.until ? `to ${segment.until}` : ""}`.trim();
}

function inBrackets(segment: Segment): string {
  const several = "all" in segment || "any" in segment;
  return several ? `(${segmentWords(segment)})` : segmentWords(segment);
}
