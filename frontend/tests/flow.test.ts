import { expect, test } from "vitest";
import type { PathFigures } from "../src/api/client";
import { laid } from "../src/charts/flow";

const share = (count: number) => ({ count, of: 100, low: 0, high: 1 });
const node = (column: number, kind: string, name: string, count: number) => ({
  figure: `${column} ${kind} ${name}`,
  kind,
  name,
  share: share(count),
  detours: null,
  drawn: true,
});
const FOUND = {
  met: share(100),
  columns: [
    { folded: 0, ended: 0, nodes: [node(0, "node", "Board", 60), node(0, "node", "Map", 40)] },
    {
      folded: 7,
      ended: 0,
      nodes: [
        node(1, "node", "Pier", 35),
        node(1, "node", "Sailing", 30),
        node(1, "ended", "", 25),
        node(1, "rest", "", 10),
      ],
    },
    { folded: 0, ended: 25, nodes: [] },
  ],
  flows: [
    { figure: "a", column: 0, start: 0, end: 1, count: 30 },
    { figure: "b", column: 0, start: 0, end: 2, count: 25 },
    { figure: "c", column: 0, start: 0, end: 3, count: 5 },
    { figure: "d", column: 0, start: 1, end: 0, count: 35 },
    { figure: "e", column: 0, start: 1, end: 3, count: 5 },
  ],
} as unknown as PathFigures;

test("what leaves a node is as thick as it, and lies side by side", () => {
  const { nodes, bands, columns } = laid(FOUND, (one) => one.name || one.kind);
  expect(columns).toBe(2);
  for (const one of nodes.filter(({ column }) => column === 0)) {
    const out = bands.filter(({ words }) => words.startsWith(`${one.words} →`));
    const sorted = [...out].sort((a, b) => a.start - b.start);
    let y = one.y;
    for (const band of sorted) {
      expect(band.start).toBeCloseTo(y);
      y += band.thick;
    }
    expect(y - one.y).toBeCloseTo(one.thick);
    expect(sorted.findIndex(({ end }) => end === null)).toBe(
      sorted.some(({ end }) => end === null) ? sorted.length - 1 : -1,
    );
  }
});

test("nodes stand in the order of where they come from, the rest last, and ends are none", () => {
  const { nodes } = laid(FOUND, (one) => one.name || one.kind);
  const second = nodes.filter(({ column }) => column === 1);
  expect(second.map(({ words }) => words)).toEqual(["Sailing", "Pier", "rest"]);
  const ys = second.map(({ y, thick }) => [y, y + thick]);
  expect(ys[0]?.[1]).toBeLessThan(ys[1]?.[0] ?? 0);
});
