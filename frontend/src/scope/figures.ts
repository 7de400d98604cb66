type Words = (figure: string) => string;

const WORDS = new Map<string, Words>();

/** Say what the journeys behind the figures of a measure have in common. */
export function wordFigures(measure: string, words: Words) {
  WORDS.set(measure, words);
}

interface Part {
  part?: string;
  part_by?: string;
  part_over?: string;
}

/** Of which value of a property, or when, a figure is; nothing where it is of all. */
export function partWords({ part, part_by, part_over }: Part): string {
  if (part_over) {
    return ` (${part_over === "week" ? "the week from" : "on"} ${part})`;
  }
  return part_by ? ` (${part_by} ${part || "not told"})` : "";
}

/** What the journeys behind a figure have in common, after their number. */
export function figureWords(measure: string, figure: string): string {
  return WORDS.get(measure)?.(figure) ?? "";
}
