import type { GateCause, Loss } from "../../api/client";
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
} satisfies Record<Exclude<Loss, "restored">, string>;

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

export const CAUSES: Record<string, string> = {
  asked: "asked for a screen behind it",
  link: "a link led there",
  expired: "had been signed in, and was sent back",
} satisfies Record<GateCause, string>;

export const DETOURS: Record<string, string> = {
  recovery: "went for a forgotten code",
  sign_up: "went to sign up",
};

export const GATE_ENDS: Record<string, string> = {
  reached: "reached what they wanted",
  in: "got in, but not there",
  lost: "did not get in",
};

/** What the journeys behind a figure of gates and tries have in common. */
export function gateWords(figure: string): string {
  const [kind = "", rest = ""] = figure.split(".");
  if (kind === "failed") {
    return "had a try that failed";
  }
  if (kind === "tries") {
    return "tried";
  }
  if (kind in DETOURS) {
    return `${DETOURS[kind]}${rest ? ", and got in after it" : ""}`;
  }
  if (kind === "needed") {
    return Number(rest) < 5 ? `got in at try ${rest}` : "got in at try 5 or later";
  }
  return `met a gate: ${CAUSES[kind] ?? kind}${rest ? `; ${GATE_ENDS[rest] ?? rest}` : ""}`;
}
