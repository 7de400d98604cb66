import { expect, test } from "vitest";
import { layers, NODE } from "../src/charts/layers";

const SCREENS = [
  { name: "Splash", depth: "outside" },
  { name: "Board", depth: "tab:Sailings" },
  { name: "Detail", depth: "tab:Sailings" },
  { name: "Seat", depth: "tab:Sailings" },
  { name: "Delay", depth: "tab:Sailings" },
  { name: "Pay", depth: "sheet" },
  { name: "Lost", depth: "" },
];
const move = (from: string, to: string, by = "push", steps = 10) => ({ from, to, by, steps });
const MOVES = [
  move("Splash", "Board", "reset"),
  move("Board", "Detail"),
  move("Detail", "Seat"),
  move("Detail", "Delay"),
  move("Seat", "Board", "pop"),
  move("Seat", "Pay", "open_modal"),
];

test("a screen's layer is how far onward it lies from its tab's root", () => {
  const { nodes } = layers(SCREENS, MOVES, ["Sailings"]);
  const x = new Map(nodes.map((node) => [node.name, node.x]));
  expect(x.get("Board")).toBeLessThan(x.get("Detail") ?? 0);
  expect(x.get("Detail")).toBeLessThan(x.get("Seat") ?? 0);
  expect(x.get("Seat")).toBe(x.get("Delay"));
});

test("every screen stands in its own lane, on no other screen, and inside the picture", () => {
  const many = Array.from({ length: 60 }, (_, i) => ({
    name: `S${i}`,
    depth: i % 2 ? "" : "sheet",
  }));
  const { nodes, lanes, width, height } = layers([...SCREENS, ...many], MOVES, ["Sailings"]);
  expect(nodes).toHaveLength(SCREENS.length + many.length);
  expect(new Set(nodes.map((node) => `${node.x},${node.y}`)).size).toBe(nodes.length);
  for (const node of nodes) {
    const lane = lanes.find((one) => one.lane === node.lane);
    expect(node.y).toBeGreaterThanOrEqual(lane?.y ?? Number.NaN);
    expect(node.y + NODE.height).toBeLessThanOrEqual((lane?.y ?? 0) + (lane?.height ?? 0));
    expect(node.x + NODE.width).toBeLessThanOrEqual(width);
    expect(node.y + NODE.height).toBeLessThanOrEqual(height);
  }
});

test("no screens make an empty picture", () => {
  expect(layers([], [], ["Sailings"])).toEqual({ nodes: [], lanes: [], width: 0, height: 0 });
});
