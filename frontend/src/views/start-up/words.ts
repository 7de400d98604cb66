import { duration, words } from "../../format";

export interface StartFigure {
  cell: string;
  slow?: number;
}

const LANDED: Record<string, string> = {
  onboarding: "onboarding",
  sign_in: "sign-in",
  inside: "a tab",
  link_target: "what their link names",
  not_found: "“not found”",
  elsewhere: "another screen",
};

export function landingWords(landing: string): string {
  return LANDED[landing] ?? words(landing);
}

export function startFigure(figure: StartFigure): string {
  return JSON.stringify(figure);
}

/** What the journeys behind a figure of starts have in common, after their number. */
export function figureWords(figure: string): string {
  let asked: StartFigure;
  try {
    asked = JSON.parse(figure) as StartFigure;
  } catch {
    return "";
  }
  return cellWords(asked);
}

function cellWords({ cell, slow }: StartFigure): string {
  const [kind = "", rest = ""] = cell.split(".");
  const limit = duration(slow ?? 2000);
  const plain: Record<string, string> = {
    all: "with a start",
    cold: "with a cold start",
    warm: "that began warm",
    recreated: "in which the app was rebuilt",
    link: "started by a link",
    left: "left before a first screen",
    bin: "with a start that took so long",
  };
  if (kind === "land") {
    return `started onto ${landingWords(rest)}`;
  }
  if (kind === "slow" || kind === "quick") {
    const took = kind === "slow" ? `${limit} or longer` : `less than ${limit}`;
    return `took ${took} to start${rest ? ", and ended on the first screen" : ""}`;
  }
  return plain[kind] ?? `count under “${cell}”`;
}
