import { expect, test } from "vitest";
import { bands, groundColour, terrain } from "../src/charts/grounds";

test("sheets lie on the ground and the height of what is under them", () => {
  const steps = [
    { region: "outside", tab: null, depth: 2 },
    { region: "tab", tab: "Sailings", depth: 3 },
    { region: "sheet", tab: null, depth: 1 },
    { region: "sheet", tab: null, depth: 2 },
    { region: "tab", tab: "Passes", depth: 1 },
  ];
  expect(terrain(steps)).toEqual([
    { ground: "outside", height: 2 },
    { ground: "Sailings", height: 3 },
    { ground: "Sailings", height: 4 },
    { ground: "Sailings", height: 5 },
    { ground: "Passes", height: 1 },
  ]);
});

test("bands join neighbours and leave no step out", () => {
  const grounds = ["a", "a", "b", "a", "a", "a"];
  const found = bands(grounds);
  expect(found).toEqual([
    { ground: "a", from: 0, to: 1 },
    { ground: "b", from: 2, to: 2 },
    { ground: "a", from: 3, to: 5 },
  ]);
  expect(bands([])).toEqual([]);
});

test("each tab has a ground of its own, and what is in none has stone", () => {
  const tabs = ["a", "b", "c", "d", "e", "f", "g"];
  expect(new Set(tabs.map((tab) => groundColour(tab, tabs))).size).toBe(7);
  expect(groundColour("outside", tabs)).toBe("var(--ground-outside)");
});
