import type { Vocabulary } from "../../api/client";

const SCREENS = ["screen", "wanted", "below", "stack"];
const TABS = ["tab", "reported"];
const MOST = 8;
const PLAIN = /^[\p{L}_][\p{L}\p{N}_\-/:]*$/u;

/** A way to go on from where one is writing: the text from `from` on to there becomes `text`. */
export interface Proposal {
  said: string;
  text: string;
  from: number;
}

/** A name as it stands in a pattern. */
export function quoted(name: string): string {
  return PLAIN.test(name) && name !== "within" ? name : `"${name.replaceAll('"', "")}"`;
}

/** What may stand where one is writing, by what the log holds. */
export function proposals(
  text: string,
  caret: number,
  keys: Record<string, string[]>,
  known: Vocabulary | undefined,
): Proposal[] {
  const before = text.slice(0, caret);
  const inside = before.lastIndexOf("[") > before.lastIndexOf("]");
  const value = /([a-z_]+(?:\.[^\s=<>!\]]+)?)(?:!=|=)(?:[^\s\]]*\|)?"?([^\s|\]"=]*)$/.exec(before);
  if (inside && value) {
    const [, key = "", begun = ""] = value;
    return matching(valuesOf(key, keys, known), begun, caret, quotedValue);
  }
  const word = /[\p{L}\p{N}_\-/:.]*$/u.exec(before)?.[0] ?? "";
  if (inside) {
    const all = [
      ...Object.keys(keys),
      ...(known?.properties ?? []).map((one) => `prop.${one.name}`),
    ];
    return matching(all, word, caret, (key) => `${key}=`);
  }
  const screens = (known?.screens ?? []).map((one) => one.name);
  return word.replaceAll(".", "") ? matching(screens, word, caret, quoted) : [];
}

function valuesOf(
  key: string,
  keys: Record<string, string[]>,
  known: Vocabulary | undefined,
): string[] {
  if (SCREENS.includes(key)) {
    return (known?.screens ?? []).map((one) => one.name);
  }
  if (TABS.includes(key)) {
    return (known?.tabs ?? []).map((one) => one.name);
  }
  if (key === "event") {
    return (known?.events ?? []).map((one) => one.name.replace(" ", ":"));
  }
  const property = known?.properties.find((one) => `prop.${one.name}` === key);
  return property ? property.values.map((one) => one.name) : (keys[key] ?? []);
}

function quotedValue(value: string): string {
  return /^[^\s,|\]"]+$/.test(value) ? value : `"${value.replaceAll('"', "")}"`;
}

function matching(
  all: string[],
  begun: string,
  caret: number,
  written: (one: string) => string,
): Proposal[] {
  const wanted = begun.toLowerCase();
  const found = all.filter((one) => one.toLowerCase().includes(wanted) && one !== begun);
  found.sort(
    (a, b) =>
      Number(b.toLowerCase().startsWith(wanted)) - Number(a.toLowerCase().startsWith(wanted)),
  );
  return found
    .slice(0, MOST)
    .map((said) => ({ said, text: written(said), from: caret - begun.length }));
}

interface Picked {
  screen: string;
  move: string;
}

/** The pattern of steps that were picked from a journey: by their places in it, from 1. */
export function patternOf(trail: readonly Picked[], picked: readonly number[]): string {
  const order = [...picked].sort((a, b) => a - b);
  return order
    .flatMap((step, i) => {
      const one = trail[step - 1];
      const gap = i > 0 && step - (order[i - 1] ?? 0) > 1 ? [".."] : [];
      const how = one && one.move !== "start" ? `[move=${one.move}]` : "";
      return one ? [...gap, `${quoted(one.screen)}${how}`] : [];
    })
    .join(" ");
}

/** The pattern of a path: what was folded or taken back between its nodes may come between. */
export function patternOfWay(
  asked: { reading: "walked" | "kept"; repeats: boolean },
  nodes: readonly string[],
): string {
  const names = nodes.map(quoted);
  if (asked.reading === "kept") {
    return names.join(" .. ");
  }
  return names.map((name) => (asked.repeats ? name : `${name}+`)).join(" ");
}
