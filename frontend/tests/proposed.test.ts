import { expect, test } from "vitest";
import { proposed } from "../src/views/funnels/proposed";

const move = (from: string, to: string, journeys: number, by = "push") => ({
  ...{ from, to, journeys, by },
});

test("ways that many go are proposed, from where most set out, and none twice", () => {
  const moves = [
    move("Wallet", "Buy", 80),
    move("Buy", "Pay", 50, "open_modal"),
    move("Pay", "Receipt", 45, "replace"),
    move("Receipt", "Wallet", 44),
    move("Board", "Detail", 900),
    move("Aside", "Detail", 60),
    move("Detail", "Seat", 300),
    move("Detail", "Board", 800, "pop"),
    move("Board", "Wallet", 700, "switch_tab"),
  ];
  expect(proposed(moves)).toEqual([
    ["Board", "Detail", "Seat"],
    ["Wallet", "Buy", "Pay", "Receipt"],
  ]);
});

test("what few do, and what leads round, is not proposed", () => {
  expect(proposed([])).toEqual([]);
  expect(proposed([move("A", "B", 29), move("B", "C", 29)])).toEqual([]);
  expect(proposed([move("A", "B", 99), move("B", "A", 99)])).toEqual([]);
});
