import { expect, test } from "vitest";
import type { Vocabulary } from "../src/api/client";
import { patternOf, patternOfWay, proposals, quoted } from "../src/views/patterns/proposals";

const KEYS = { screen: [], tab: [], move: ["push", "pop", "pop_to"], event: [], depth: [] };
const some = (...names: string[]) => names.map((name) => ({ name, count: 1 }));
const KNOWN = {
  screens: some("SailingsBoard", "SailingDetail", "Pass wallet"),
  tabs: some("Sailings", "Passes"),
  events: some("sign_in failed"),
  moves: [],
  properties: [{ name: "version", values: some("3.1", "3.2"), more: 0 }],
} as unknown as Vocabulary;

/** What is proposed where the bar stands, as the text would be with it. */
function proposed(text: string): string[] {
  const caret = text.indexOf("|");
  const plain = text.replace("|", "");
  return proposals(plain, caret, KEYS, KNOWN).map(
    (one) => plain.slice(0, one.from) + one.text + plain.slice(caret),
  );
}

test("screens outside brackets, those that begin so first, odd ones in quotes", () => {
  expect(proposed("Splash .. detail|")).toEqual(["Splash .. SailingDetail"]);
  expect(proposed("sail| $")).toEqual(["SailingsBoard $", "SailingDetail $"]);
  expect(proposed("wallet|")).toEqual(['"Pass wallet"']);
  expect(proposed("Splash |")).toEqual([]);
  expect(proposed("Splash ..|")).toEqual([]);
});

test("keys in brackets, and the values of each", () => {
  expect(proposed("[de|")).toEqual(["[depth="]);
  expect(proposed("[vers|]")).toEqual(["[prop.version=]"]);
  expect(proposed("X[move=po|]")).toEqual(["X[move=pop]", "X[move=pop_to]"]);
  expect(proposed("[tab!=pas|")).toEqual(["[tab!=Passes"]);
  expect(proposed("[event=sign|")).toEqual(["[event=sign_in:failed"]);
  expect(proposed("[prop.version=3.1|")).toEqual([]);
  expect(proposed("[screen=pass|")).toEqual(['[screen="Pass wallet"']);
  expect(proposed("[move=push] sail|")).toEqual([
    "[move=push] SailingsBoard",
    "[move=push] SailingDetail",
  ]);
});

test("steps that were picked become a pattern, with a gap where some lie between", () => {
  const trail = [
    { screen: "Splash", move: "start" },
    { screen: "Pass wallet", move: "switch_tab" },
    { screen: "SignIn", move: "redirect" },
    { screen: "BuyPass", move: "push" },
  ];
  expect(patternOf(trail, [4, 1, 2])).toBe(
    'Splash "Pass wallet"[move=switch_tab] .. BuyPass[move=push]',
  );
  expect(quoted("within")).toBe('"within"');
});

test("a path becomes the pattern that it fits", () => {
  const nodes = ["Splash", "Pass wallet"];
  const walked = { reading: "walked", repeats: false } as const;
  expect(patternOfWay(walked, nodes)).toBe('Splash+ "Pass wallet"+');
  expect(patternOfWay({ ...walked, repeats: true }, nodes)).toBe('Splash "Pass wallet"');
  expect(patternOfWay({ ...walked, reading: "kept" }, nodes)).toBe('Splash .. "Pass wallet"');
});
