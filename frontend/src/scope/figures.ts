type Words = (figure: string) => string;

const WORDS = new Map<string, Words>();

/** Say what the journeys behind the figures of a measure have in common. */
export function wordFigures(measure: string, words: Words) {
  WORDS.set(measure, words);
}

/** What the journeys behind a figure have in common, after their number. */
export function figureWords(measure: string, figure: string): string {
  return WORDS.get(measure)?.(figure) ?? "";
}
