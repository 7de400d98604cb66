import type { Schemas } from "../../api/client";
import { percent, words } from "../../format";
import { HISTORY, UNDER } from "../app-map/document";
import { cell } from "../inside";

export type Fit = Schemas["FitView"];
export type Mend = Schemas["MendView"];
export type Misfit = Schemas["MisfitView"];

/** Under this share of moves that land as predicted, the page says so first. */
const POOR = 0.98;

export function isPoor(fit: Fit): boolean {
  return fit.told > 0 && fit.landed / fit.told < POOR;
}

/** 99.96 % are not all: a share is told as whole only where it is. */
export function shareOf(landed: number, told: number): string {
  const share = landed / told;
  return landed < told && share > 0.999 ? "over 99.9 %" : percent(share);
}

/** What a change of the map says, as one would say it of the app. */
export function mendWords(mend: Mend): string {
  switch (mend.kind) {
    case "history": {
      const rule = HISTORY[mend.subject];
      return `${rule?.about ?? mend.subject} ${rule?.settings[mend.value] ?? mend.value}`;
    }
    case "link": {
      const which = mend.subject === "*" ? "every link" : mend.subject;
      return `${which} lands ${UNDER[mend.value] ?? mend.value}, where no stack is kept`;
    }
    case "tab":
      return `${mend.subject} lives in the tab ${mend.value}`;
    default:
      return `${mend.subject} is another name of ${mend.value}`;
  }
}

export function misfitFigure(one: Misfit): string {
  return JSON.stringify(["misfit", one.move, one.from, one.expected, one.came]);
}

/** What the journeys behind a misfit have in common, after their number. */
export function figureWords(figure: string): string {
  const [kind, ...rest] = cell(figure);
  switch (kind) {
    case "move":
      return `with a ${words(rest[0] ?? "")} that landed elsewhere than predicted`;
    case "screen":
      return `with a move that landed on ${rest[0]}, and was to land elsewhere`;
    case "value":
      return `of ${rest[0]} ${rest[1] || "unknown"} with a move that landed elsewhere than predicted`;
    case "misfit":
      return `where a ${words(rest[0] ?? "")} was to lead to ${rest[2] || "nothing"} and led to ${rest[3]}`;
    default:
      return "with a move that landed elsewhere than predicted";
  }
}
