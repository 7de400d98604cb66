import { words } from "../../format";
import { cell } from "../inside";

/** What the journeys behind a screen or a move have in common, after their number. */
export function figureWords(figure: string): string {
  const [first, from, to] = cell(figure);
  if (first === undefined) {
    return "";
  }
  return to === undefined ? `were on ${first}` : `went from ${from} to ${to} by ${words(first)}`;
}

export function moveFigure(move: { by: string; from: string; to: string }): string {
  return JSON.stringify([move.by, move.from, move.to]);
}

export function screenFigure(screen: string): string {
  return JSON.stringify([screen]);
}
