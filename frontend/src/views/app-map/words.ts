import { words } from "../../format";

/** What the journeys behind a screen or a move have in common, after their number. */
export function figureWords(figure: string): string {
  let asked: unknown;
  try {
    asked = JSON.parse(figure);
  } catch {
    return "";
  }
  const [first, from, to] = Array.isArray(asked) ? asked.map(String) : [];
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
