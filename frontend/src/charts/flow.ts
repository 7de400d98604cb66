import type { PathFigures } from "../api/client";

type Node = PathFigures["columns"][number]["nodes"][number];

export interface Placed extends Node {
  column: number;
  /** From the top of its column. */
  row: number;
  y: number;
  thick: number;
  words: string;
}

/** From one node to another, or, where `end` is none, off the one at which journeys end or begin. */
export interface Band {
  figure: string;
  column: number;
  start: number;
  end: number | null;
  thick: number;
  kind: string;
  words: string;
  count: number;
}

const TALL = 320;
const LINE = 17;
const GAP = 6;
/** What is no node, but leaves one. */
const ENDS = ["ended", "cut", "began"];

/**
 * Nodes of each column below each other, in the order of where they come from, so that few bands
 * cross; the rest come last, and ends branch off. Thickness is in proportion to counts.
 */
export function laid(
  found: PathFigures,
  wordsOf: (node: Node, folded: number) => string,
): { nodes: Placed[]; bands: Band[]; columns: number; height: number } {
  const most = Math.max(found.met.count, 1);
  const thickness = (n: number) => Math.max((n / most) * TALL, n ? 1 : 0);
  const placed: Placed[][] = [];
  let height = 0;
  for (const [column, { nodes, folded }] of found.columns.entries()) {
    const drawn = nodes.filter((node) => node.drawn);
    const before = placed[column - 1];
    const pull = drawn.map((_, i) => {
      const into = found.flows.filter((f) => f.column === column - 1 && f.end === i);
      const sum = into.reduce((all, f) => all + f.count, 0);
      const middle = (start: number) => {
        const from = before?.find(
          (one) => one.figure === drawnOf(found, column - 1)[start]?.figure,
        );
        return from ? from.y + from.thick / 2 : 0;
      };
      return sum ? into.reduce((all, f) => all + f.count * middle(f.start), 0) / sum : 0;
    });
    const rank = (i: number) => (drawn[i]?.kind === "rest" ? 1 : 0);
    const order = drawn
      .map((_, i) => i)
      .sort((a, b) => rank(a) - rank(b) || (pull[a] ?? 0) - (pull[b] ?? 0) || a - b);
    let y = 0;
    const own: Placed[] = [];
    for (const i of order) {
      const node = drawn[i];
      if (node?.share.count && !ENDS.includes(node.kind)) {
        const thick = thickness(node.share.count);
        own.push({ ...node, column, row: own.length, y, thick, words: wordsOf(node, folded) });
        y += Math.max(thick, LINE) + GAP;
      }
    }
    if (own.length) {
      placed.push(own);
      height = Math.max(height, y);
    }
  }
  return {
    nodes: placed.flat(),
    bands: bandsOf(found, placed, wordsOf),
    columns: placed.length,
    height,
  };
}

function drawnOf(found: PathFigures, column: number): Node[] {
  return found.columns[column]?.nodes.filter((node) => node.drawn) ?? [];
}

function bandsOf(
  found: PathFigures,
  placed: Placed[][],
  wordsOf: (node: Node, folded: number) => string,
): Band[] {
  const filled = new Map<string, number>();
  const thick = (n: number) => (n / Math.max(found.met.count, 1)) * TALL;
  const ends = found.flows.flatMap((flow) => {
    const [one, other] = [
      drawnOf(found, flow.column)[flow.start],
      drawnOf(found, flow.column + 1)[flow.end],
    ];
    const start = placed[flow.column]?.find((node) => node.figure === one?.figure);
    const end = placed[flow.column + 1]?.find((node) => node.figure === other?.figure);
    const words = end?.words ?? (other ? wordsOf(other, 0) : "");
    return start && other ? [{ flow, start, end, kind: other.kind, words }] : [];
  });
  const place = (key: string, y: number, n: number) => {
    const from = filled.get(key) ?? y;
    filled.set(key, from + thick(n));
    return from;
  };
  const bottom = Number.POSITIVE_INFINITY;
  const starts = new Map(
    [...ends]
      .sort((a, b) => (a.end?.y ?? bottom) - (b.end?.y ?? bottom) || a.flow.end - b.flow.end)
      .map(({ flow, start }) => [
        flow.figure,
        place(`out ${start.column} ${start.figure}`, start.y, flow.count),
      ]),
  );
  return ends
    .sort((a, b) => a.start.y - b.start.y)
    .map(({ flow, start, end, kind, words }) => ({
      figure: flow.figure,
      column: flow.column,
      start: starts.get(flow.figure) ?? start.y,
      end: end ? place(`in ${end.column} ${end.figure}`, end.y, flow.count) : null,
      thick: Math.max(thick(flow.count), 0.8),
      kind: start.kind === "rest" && kind === "node" ? "rest" : kind,
      words: `${start.words} → ${words}`,
      count: flow.count,
    }));
}
