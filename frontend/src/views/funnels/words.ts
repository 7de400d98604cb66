import { stageWords, type Written } from "./spec";

export interface FunnelFigure {
  funnel: Written;
  cell: string;
}

/** What the journeys behind a figure of a funnel have in common, after their number. */
export function figureWords(figure: string): string {
  let asked: FunnelFigure;
  try {
    asked = JSON.parse(figure) as FunnelFigure;
  } catch {
    return "";
  }
  const [kind, number, way, ...screen] = asked.cell.split(".");
  const at = Number(number);
  const name = (i: number) => {
    const stage = asked.funnel?.stages?.[i];
    return stage ? stageWords(stage) : `stage ${i + 1}`;
  };
  if (kind === "stage") {
    return `got to ${name(at)}`;
  }
  return `got to ${name(at)} and no further${wayWords(way, screen.join("."))}`;
}

function wayWords(way: string | undefined, screen: string): string {
  if (way === "ended") {
    return ": ended there";
  }
  if (way === "back") {
    return ": went back";
  }
  return screen ? `: went to ${screen}` : "";
}

export function lossWords(way: string, screen: string): string {
  if (way === "ended") {
    return "ended there";
  }
  return way === "back" ? "went back" : `to ${screen}`;
}

export const CHAIN_WAYS: Record<string, string> = {
  on: "went on",
  back: "back",
  skipped: "skipped the rest",
  ended: "ended there",
  elsewhere: "elsewhere",
};

export const USER_ENDS: Record<string, string> = {
  finished: "finished in their first go",
  later: "finished in a later session",
  skipped: "got inside without",
  never: "did neither",
};

/** What the journeys behind a figure of onboarding's screens have in common. */
export function chainWords(figure: string): string {
  const [kind, rest = "", way = ""] = figure.split(".");
  if (kind === "user") {
    return `in which users began who ${USER_ENDS[rest] ?? rest}`;
  }
  const place = `screen ${Number(rest) + 1} of onboarding`;
  return way ? `left ${place}: ${CHAIN_WAYS[way] ?? way}` : `were on ${place}`;
}
