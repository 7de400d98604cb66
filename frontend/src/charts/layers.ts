/** Places the screens of an app in layers: a lane for the outside, one a tab, and one for sheets. */
export interface Placed {
  name: string;
  lane: string;
  x: number;
  y: number;
}

export interface Lane {
  lane: string;
  y: number;
  height: number;
}

interface Screen {
  name: string;
  depth: string;
}

interface Move {
  from: string;
  to: string;
  by: string;
  steps: number;
}

export const NODE = { width: 118, height: 22 };
const STEP = { x: 172, y: 34 };
const PAD = 14;
const LABEL = 86;
const ONWARD = new Set(["push", "replace", "reset", "link", "redirect"]);

/** Each screen's layer is how many moves onward it lies from where its lane is entered. */
export function layers(
  screens: readonly Screen[],
  moves: readonly Move[],
  tabs: readonly string[],
): { nodes: Placed[]; lanes: Lane[]; width: number; height: number } {
  const order = ["outside", ...tabs.map((tab) => `tab:${tab}`), "", "sheet"];
  const nodes: Placed[] = [];
  const lanes: Lane[] = [];
  let y = 0;
  let width = 0;
  for (const lane of order) {
    const own = screens.filter((screen) => screen.depth === lane).map((screen) => screen.name);
    if (!own.length) {
      continue;
    }
    const column = lane === "sheet" || lane === "" ? spread(own) : byDistance(own, moves);
    const filled: number[] = [];
    for (const name of own) {
      const at = column.get(name) ?? 0;
      const row = filled[at] ?? 0;
      filled[at] = row + 1;
      nodes.push({
        name,
        lane,
        x: LABEL + at * STEP.x,
        y: y + PAD + row * STEP.y,
      });
      width = Math.max(width, LABEL + at * STEP.x + NODE.width + PAD);
    }
    const rows = Math.max(...filled.map((n) => n ?? 0));
    const height = rows * STEP.y + PAD;
    lanes.push({ lane, y, height });
    y += height + 4;
  }
  return { nodes, lanes, width, height: y };
}

const ACROSS = 5;

function spread(names: readonly string[]): Map<string, number> {
  return new Map(names.map((name, i) => [name, i % ACROSS]));
}

function byDistance(names: readonly string[], moves: readonly Move[]): Map<string, number> {
  const inside = new Set(names);
  const onward = moves.filter((move) => ONWARD.has(move.by) && move.from !== move.to);
  const into = new Map(names.map((name) => [name, 0]));
  for (const move of onward) {
    if (inside.has(move.to) && inside.has(move.from)) {
      into.set(move.to, (into.get(move.to) ?? 0) + move.steps);
    }
  }
  const found = new Map<string, number>();
  // The first is where the lane is entered: what the map lists first, a root or the splash.
  let edge = names.slice(0, 1);
  for (let distance = 0; edge.length; distance += 1) {
    for (const name of edge) {
      found.set(name, Math.min(distance, ACROSS));
    }
    const next = new Set<string>();
    for (const name of edge) {
      const most = Math.max(0, ...onward.filter((m) => m.from === name).map((m) => m.steps));
      for (const move of onward) {
        const used = move.steps >= most * 0.02;
        if (move.from === name && used && inside.has(move.to) && !found.has(move.to)) {
          next.add(move.to);
        }
      }
    }
    edge = [...next];
  }
  for (const name of names) {
    if (!found.has(name)) {
      found.set(name, 1);
    }
  }
  return found;
}

export type Kind = "onward" | "back" | "tab" | "sheet" | "redirect" | "link";

export const KIND_OF: Record<string, Kind> = {
  push: "onward",
  replace: "onward",
  reset: "onward",
  update: "onward",
  forward: "onward",
  pop: "back",
  pop_to: "back",
  switch_tab: "tab",
  open_modal: "sheet",
  close_modal: "sheet",
  redirect: "redirect",
  link: "link",
};

/** A curve from one screen to another; back moves bend below, others above. */
export function curve(from: Placed, to: Placed, back: boolean): string {
  const middle = NODE.height / 2;
  if (from.x === to.x && from.y !== to.y) {
    const side = back ? from.x : from.x + NODE.width;
    const bend = (back ? -1 : 1) * (26 + Math.abs(to.y - from.y) / 8);
    return `M${side},${from.y + middle}C${side + bend},${from.y + middle} ${side + bend},${to.y + middle} ${side},${to.y + middle}`;
  }
  const right = to.x > from.x;
  const start = { x: from.x + (right ? NODE.width : 0), y: from.y + middle };
  const end = { x: to.x + (right ? 0 : NODE.width), y: to.y + middle };
  const reach = Math.max(24, Math.abs(end.x - start.x) / 2) * (right ? 1 : -1);
  const lift = back ? 7 : -3;
  return `M${start.x},${start.y + lift}C${start.x + reach},${start.y + lift} ${end.x - reach},${end.y + lift} ${end.x},${end.y + lift}`;
}
