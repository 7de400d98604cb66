import { expect, test } from "vitest";
import { along } from "../src/charts/along";

test("stays are drawn as long as they are", () => {
  expect(along([0, 10, 30, 60], 70)).toEqual({
    at: [0, 10, 30, 60],
    end: 70,
    cut: [false, false, false, false],
  });
  expect(along([], 5)).toEqual({ at: [], end: 0, cut: [] });
});

test("a long rest is cut short, and said to be", () => {
  expect(along([0, 10, 20, 90_000], 90_010)).toEqual({
    at: [0, 10, 20, 100],
    end: 110,
    cut: [false, false, true, false],
  });
});
