import { describe, expect, test } from "vitest";
import { bytes, called, count, days, duration, params, percent, short } from "../src/format";

const DAY = 86_400_000;
const MAY_4 = Date.UTC(2026, 4, 4);

describe("shares", () => {
  test.each([
    [0, "0 %"],
    [0.0001, "< 0.1 %"],
    [0.1234, "12.3 %"],
    [0.5, "50 %"],
    [0.9997, "> 99.9 %"],
    [1, "100 %"],
  ])("%d is %s", (share, words) => expect(percent(share)).toBe(words));

  test("nothing but none is 0 %, and nothing but all is 100 %", () => {
    for (const of of [1, 2, 3, 999, 1000, 1001, 54_321, 10_000_000]) {
      for (const n of [0, 1, 2, Math.floor(of / 2), of - 2, of - 1, of].filter((n) => n >= 0)) {
        expect(percent(n / of) === "0 %", `${n} of ${of}`).toBe(n === 0);
        expect(percent(n / of) === "100 %", `${n} of ${of}`).toBe(n === of);
      }
    }
  });
});

test.each([
  [0, "0 ms"],
  [850, "850 ms"],
  [2400, "2.4 s"],
  [9949, "9.9 s"],
  [9950, "10 s"],
  [99_499, "99 s"],
  [99_500, "2 min"],
  [3 * 3_600_000, "3 h"],
  [3 * DAY, "3 days"],
])("%d ms last %s", (milliseconds, words) => expect(duration(milliseconds)).toBe(words));

test.each([
  [1, "1 byte"],
  [999, "999 bytes"],
  [1000, "1.0 kB"],
  [99_400, "99 kB"],
  [999_999, "1.0 MB"],
  [1_022_436_248, "1.0 GB"],
  [5e15, "5000 TB"],
])("%d bytes are %s", (n, words) => expect(bytes(n)).toBe(words));

test("numbers have separators, and one is singular", () => {
  expect(count(1234567, "row")).toBe("1,234,567 rows");
  expect(count(1, "row")).toBe("1 row");
  expect(count(2, "entry", "entries")).toBe("2 entries");
});

test("a span of days names the year as often as it must", () => {
  expect(days(MAY_4, MAY_4 + DAY - 1)).toBe("4 May 2026");
  expect(days(MAY_4, MAY_4 + 27 * DAY)).toBe("4 May – 31 May 2026");
  expect(days(MAY_4 - 365 * DAY, MAY_4)).toBe("4 May 2025 – 4 May 2026");
});

test("a long name is cut between letters, not within one", () => {
  expect(short("🚢🚢🚢🚢", 3)).toBe("🚢🚢…");
  expect(short("🚢🚢🚢", 3)).toBe("🚢🚢🚢");
  expect(short("x".repeat(200), 10)).toHaveLength(10);
});

test("a log is called by its files", () => {
  expect(called(["a.csv"])).toBe("a.csv");
  expect(called(["a.csv", "b.csv"])).toBe("a.csv and 1 other file");
  expect(called(["a", "b", "c"])).toBe("a and 2 other files");
  expect(called([])).toBe("");
});

test.each([
  [null, ""],
  ['{"sailing": "41", "n": 2, "deep": {"a": [1]}}', 'sailing 41, n 2, deep {"a":[1]}'],
  ["[1]", "[1]"],
  ["{broken", "{broken"],
])("params %s read as they came", (json, words) => expect(params(json)).toBe(words));
