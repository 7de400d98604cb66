import type { LoopKind } from "../api/client";
import { duration, words } from "../format";

/** A figure that is named by a list of words; none where it is not. */
export function cell(figure: string): string[] {
  try {
    const found: unknown = JSON.parse(figure);
    return Array.isArray(found) ? found.map(String) : [];
  } catch {
    return [];
  }
}

const TABS: Record<string, string> = {
  visit: "were in",
  first: "began in",
  resumed: "came back to where they had been in",
  root: "came to the root of",
  again: "chose once more, while in it,",
  root_back: "went back from the root to another tab from",
  mismatch: "were in, with another tab reported,",
  filter: "chose the filter",
  on: "were on the screen of the filter",
};

export function tabWords(figure: string): string {
  const [kind = "", one = "", other = ""] = cell(figure);
  if (kind === "switch") {
    return `switched from ${one} to ${other}`;
  }
  if (kind === "flip") {
    return `flipped between ${one} and ${other}`;
  }
  return `${TABS[kind] ?? kind} ${one}`;
}

export const LOOP_KINDS: Record<string, string> = {
  ping_pong: "back and forth",
  detour: "a detour and back",
  piled_up: "onward to a new copy",
  tab_flip: "between tabs",
  by_tab: "back by choosing a tab",
  redirect_loop: "sent round by redirects",
  sent_again: "sent back by a redirect",
} satisfies Record<LoopKind, string>;

/** What makes a loop one of its kind. */
export const LOOP_MEANINGS: Record<string, string> = {
  ping_pong: "two screens, there and back twice or more",
  detour: "through two screens or more, and back by going back",
  piled_up: "the screen was opened once more by a move onward, over the old one",
  tab_flip: "every move chose a tab",
  by_tab: "the last move chose a tab, and not all of them did",
  redirect_loop: "half of the moves or more were redirects",
  sent_again: "a redirect led back there after the user had gone on",
} satisfies Record<LoopKind, string>;

const ODD: Record<string, string> = {
  visits: "were on",
  backs: "went back from",
  mistake: "went back in under 3 s from",
  dead_end: "ended, with no way out, on",
  stuck: "were stuck on",
  piled: "piled up another copy of",
};

export function loopWords(figure: string): string {
  const [kind = "", one = "", ...rest] = cell(figure);
  const walked = { loop: "walked", ended: "ended with", beyond: "went on from" }[kind];
  if (walked) {
    return `${walked} ${[...rest, rest[0]].join(" → ")} (${LOOP_KINDS[one] ?? one})`;
  }
  if (kind === "kind") {
    return `walked a loop: ${LOOP_KINDS[one] ?? one}`;
  }
  return kind === "went_back" ? "went back" : `${ODD[kind] ?? kind} ${one}`;
}

export const LANDED: Record<string, string> = {
  target: "landed",
  recovered: "after sign-in",
  fallback: "elsewhere",
  not_found: "not found",
  lost: "lost there",
  nothing: "nowhere",
};

export const AFTER: Record<string, string> = {
  stayed: "stayed",
  returned: "back to before",
  parent: "back to a parent",
  back_out: "back and out",
  bounced: "ended there",
};

export function linkWords(figure: string): string {
  const [kind = "", one = "", what = ""] = cell(figure);
  const [by = "", told = ""] = kind.split(".");
  const links: Record<string, string> = {
    every: "a link",
    pattern: one,
    source: `a link from ${one}`,
    start: `a link ${one === "cold" ? "that started the app" : "in the running app"}`,
    uri: one,
  };
  const said: Record<string, string> = {
    "": `opened ${links[by]}`,
    open: `opened ${links[by]}`,
    landed: `opened ${links[by]}: ${LANDED[what] ?? what}`,
    after: `came by ${links[by]}: ${AFTER[what] ?? what}`,
    goal: `came by ${links[by]}, and then to ${what}`,
    placeholder: `opened ${links[by]} with a placeholder`,
  };
  const without: Record<string, string> = {
    open: "opened no link",
    after: `opened no link: ${AFTER[what] ?? what}`,
    goal: `opened no link, and came to ${what}`,
  };
  return (by === "without" ? without : said)[told] ?? kind;
}

export const WHY: Record<string, string> = {
  failed: "after a failed try",
  blocked: "after a refused move",
  loop: "in a loop",
  quiet: "after nothing of note",
};

export function dropOffWords(figure: string): string {
  const [kind = "", one = "", what = ""] = cell(figure);
  const said: Record<string, string> = {
    visits: `were on ${one}`,
    exits: `ended on ${one}`,
    true: `ended on ${one}, and did not come back to it within a day`,
    exit: `ended on ${one}: ${words(what)}`,
    last: `ended on ${one}, come to by ${words(what)}`,
    why: `ended on ${one} ${WHY[what] ?? what}`,
    from: `ended on ${one}, come from ${what}`,
    steps: `have ${one} steps or more`,
    time: `last ${duration(Number(one) * 1000)} or longer`,
  };
  return said[kind] ?? kind;
}
