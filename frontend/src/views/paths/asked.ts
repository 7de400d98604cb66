import type { Schemas } from "../../api/client";
import { words } from "../../format";

export type PathFigures = Schemas["PathFigures"];
export type PathNode = PathFigures["columns"][number]["nodes"][number];

/** Which paths are asked for, as the address has it; what is as by itself is left out. */
export interface Asked {
  at: "screen" | "entry" | "event" | "exit";
  what: string;
  screen: string;
  direction: "forward" | "backward";
  deep: number;
  reading: "walked" | "kept";
  nodes: "screen" | "role" | "tab";
  repeats: boolean;
  /** Ways are told to the journey's end too, or from its beginning. */
  whole: boolean;
}

const PLAIN: Asked = {
  at: "entry",
  what: "",
  screen: "",
  direction: "forward",
  deep: 5,
  reading: "walked",
  nodes: "screen",
  repeats: false,
  whole: false,
};
export const DEEPEST = 12;
const AT = ["screen", "entry", "event", "exit"];

export function readAsked(address: URLSearchParams): Asked {
  const at = (AT.includes(address.get("at") ?? "") ? address.get("at") : "entry") as Asked["at"];
  const deep = Number(address.get("deep") ?? PLAIN.deep);
  const reading = address.get("reading") === "kept" ? "kept" : "walked";
  const nodes = address.get("nodes");
  const back = address.get("direction") === "backward";
  return {
    at,
    what: address.get("what") ?? "",
    screen: address.get("on") ?? "",
    direction: at === "exit" || (at !== "entry" && back) ? "backward" : "forward",
    deep: Number.isInteger(deep) ? Math.min(Math.max(deep, 1), DEEPEST) : PLAIN.deep,
    reading,
    nodes: nodes === "role" || nodes === "tab" ? nodes : "screen",
    repeats: address.get("repeats") === "true",
    whole: address.get("whole") === "true",
  };
}

/** The same as parts of an address; any figure that was open is none of these paths. */
export function asAddress(asked: Asked): Record<string, string | number | null> {
  const { screen, ...rest } = asked;
  const own = Object.entries({ ...rest, on: screen }).map(([key, value]) => {
    const plain = key === "on" ? PLAIN.screen : PLAIN[key as keyof Asked];
    return [key, value === plain ? null : String(value)];
  });
  return { ...Object.fromEntries(own), figure: null };
}

const STARTS: Record<string, string> = {
  "": "any start",
  cold: "a cold start",
  warm: "a warm start",
  link: "a start by a link",
};

/** Where paths begin, as a noun. */
export function placeWords({ at, what, screen }: Asked): string {
  const on = screen ? ` on ${screen}` : "";
  const where = {
    screen: what,
    event: words(what),
    entry: STARTS[what] ?? what,
    exit: what ? `the end (${words(what)})` : "the end",
  };
  return `${where[at]}${on}`;
}

export const ENDS: Record<string, string> = {
  ended: "ended",
  cut: "log ends",
  began: "began",
};

export function nodeWords(node: { kind: string; name: string }, folded = 0): string {
  if (node.kind === "rest") {
    return folded ? `${folded} more` : "the others";
  }
  return ENDS[node.kind] ?? node.name;
}

export function placeOf(column: number, forward: boolean): string {
  if (column === 0) {
    return "here";
  }
  const last = { 1: "1st", 2: "2nd", 3: "3rd" }[column] ?? `${column}th`;
  return `${last} ${forward ? "after" : "before"}`;
}

interface Document {
  paths: Partial<Asked>;
  cell: string[];
}

/** What a figure of paths names; nothing where it is none. */
export function readFigure(figure: string | null): { asked: Asked; cell: string[] } | null {
  try {
    const { paths, cell } = JSON.parse(figure ?? "") as Document;
    return Array.isArray(cell) ? { asked: { ...PLAIN, ...paths }, cell: cell.map(String) } : null;
  } catch {
    return null;
  }
}

/** What was asked for these figures: the address may be a step ahead of them. */
export function askedOf(found: PathFigures): Asked {
  return readFigure(found.figure)?.asked ?? PLAIN;
}

export function pathWords(figure: string): string {
  const found = readFigure(figure);
  if (!found) {
    return "";
  }
  const { asked, cell } = found;
  const [kind = "", column = "0", ...rest] = cell;
  const forward = asked.direction === "forward";
  const begin = `${forward ? "from" : "to"} ${placeWords(asked)}`;
  const kept = asked.reading === "kept" ? ", as kept" : "";
  const place = (node: number) => nodeWords({ kind: rest[node] ?? "", name: rest[node + 1] ?? "" });
  const said: Record<string, () => string> = {
    met: () => `with ${placeWords(asked)}`,
    taken_back: () => `with ${placeWords(asked)}, each time taken back`,
    at: () => `${begin}, ${placeOf(Number(column), forward)}: ${place(0)}`,
    detour: () =>
      `${begin}, that took back steps from ${rest[0]}, ${placeOf(Number(column), forward)}`,
    flow: () => {
      const ends = [place(0), place(2)];
      return `${begin}: ${(forward ? ends : ends.reverse()).join(" → ")}, ${placeOf(Number(column) + 1, forward)}`;
    },
    way: () => `that went ${cell.slice(1).join(" → ")}`,
    whole: () =>
      `that went ${cell.slice(1).join(" → ")}, ${forward ? "to their end" : "from their beginning"}`,
  };
  return `${said[kind]?.() ?? kind}${kept}`;
}
