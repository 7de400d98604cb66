import { expect, test } from "vitest";
import {
  gatesOf,
  linksOf,
  type MapDocument,
  placesOf,
  routesOf,
  settingOf,
  tabsOf,
  withAlias,
  withGates,
  withLinks,
  withPlaces,
  withRole,
  withRoutes,
  withScreen,
  withSetting,
  withTab,
} from "../src/views/app-map/document";

const MAP: MapDocument = {
  mossy_map: 1,
  screens: [
    { name: "Board", params: ["x"] },
    { name: "Help", tabs: ["Me", "Passes"] },
    { name: "Pay", role: "sheet" },
  ],
  tabs: [{ name: "Sailings", root: "Board" }],
  gates: [{ protects: ["Help"] }],
};

test("a change leaves the map before as it was, and all else in it", () => {
  const before = structuredClone(MAP);
  const changes = [
    withAlias(MAP, "Board", "board "),
    withRole(MAP, "Board", "splash"),
    withTab(MAP, "Help", "Me"),
    withScreen(MAP, "New"),
    withSetting(MAP, "tabs", "shared"),
  ];
  expect(MAP).toEqual(before);
  for (const next of changes) {
    expect(next).not.toEqual(before);
    expect(next.gates).toEqual(before.gates);
    expect(next.screens?.[0]?.params).toEqual(["x"]);
  }
});

test("aliases add up", () => {
  const twice = withAlias(withAlias(MAP, "Board", "board"), "Board", "BOARD");
  expect(twice.screens?.[0]?.aliases).toEqual(["board", "BOARD"]);
});

test("content is no role to write down, and one tab takes the place of several", () => {
  expect(withRole(MAP, "Pay", "content").screens?.[2]).toEqual({ name: "Pay" });
  expect(withTab(MAP, "Help", "Me").screens?.[1]).toEqual({ name: "Help", tab: "Me" });
  expect(withTab(MAP, "Help", "").screens?.[1]).toEqual({ name: "Help" });
});

test("a root lives in its own tab, others where the map says", () => {
  expect(MAP.screens?.map((screen) => tabsOf(MAP, screen))).toEqual([
    ["Sailings"],
    ["Me", "Passes"],
    [],
  ]);
});

test("a rule that is not given holds as its first setting", () => {
  expect(settingOf(MAP, "link_warm")).toBe("over");
  expect(settingOf(withSetting(MAP, "link_warm", "alone"), "link_warm")).toBe("alone");
});

test("tabs, links, routes and gates are written as they were read", () => {
  const map: MapDocument = {
    mossy_map: 1,
    screens: [{ name: "Board", routes: ["/b/{x}", "/b"] }, { name: "Help" }],
    tabs: [
      { name: "Crew", root: "Board", shown_to: { role: ["crew", "staff"], plan: ["gold"] } },
      { name: "Kind", kind: "filter", on: "Help" },
    ],
    links: [
      { pattern: "a://b/{x}", screen: "Board", placeholders: { x: ["-1", "null"] } },
      { pattern: "a://h", screen: "Help" },
    ],
    gates: [{ name: "only members", protects: ["Board", "Help"], sends_to: "Board" }],
  };
  expect(withPlaces(map, placesOf(map))).toEqual(map);
  expect(withLinks(map, linksOf(map))).toEqual(map);
  expect(withRoutes(map, routesOf(map))).toEqual(map);
  expect(withGates(map, gatesOf(map))).toEqual(map);
  const more = withRoutes(map, [...routesOf(map).slice(1), { route: "/h", screen: "Help" }]);
  expect(more.screens).toEqual([
    { name: "Board", routes: ["/b"] },
    { name: "Help", routes: ["/h"] },
  ]);
});
