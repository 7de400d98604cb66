export const STAGE_WORDS: Record<string, string> = {
  met: "met sign-in",
  tried: "tried",
  in: "in",
};

/** What they did instead of going on. */
export const LOSS_WORDS: Record<string, string> = {
  ended: "left the app there",
  back: "went back",
  recovery: "went for a forgotten code",
  sign_up: "went to sign up",
  elsewhere: "went elsewhere",
};

/** What the journeys behind a figure have in common, after their number. */
export function figureWords(figure: string): string {
  const [base = "", way = ""] = figure.split(".");
  const lost: Record<string, string> = {
    lost_met: "met sign-in and never tried",
    lost_tried: "tried and did not get in",
  };
  const plain: Record<string, string> = {
    all: "in scope",
    met: "met sign-in",
    tried: "tried to sign in",
    in: "got in",
    restored: "were signed in from the start",
  };
  const words = lost[base] ?? plain[base] ?? `count under “${figure}”`;
  return way ? `${words}: ${LOSS_WORDS[way] ?? way}` : words;
}
