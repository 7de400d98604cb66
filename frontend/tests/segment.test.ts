import { expect, test } from "vitest";
import { partsOf, type Segment, segmentWords, written } from "../src/scope/segment";
import { csv } from "../src/shell/TakeAway";
import { clauseOf, plainSpec, readSpec, specOfScreens } from "../src/views/funnels/spec";
import { figureWords } from "../src/views/funnels/words";

const IOS: Segment = { property: "platform", values: ["ios"] };

test("parts of a segment come back as they were written", () => {
  expect(written([])).toBe("");
  expect(partsOf(written([IOS]))).toEqual([IOS]);
  const two: Segment[] = [IOS, { not: { mark: "bounce" } }];
  expect(partsOf(written(two))).toEqual(two);
  expect(partsOf("{")).toEqual([]);
});

test("a segment is said in words", () => {
  const segment: Segment = {
    all: [IOS, { not: { any: [{ start: "link" }, { screen: "Pay" }] } }, { users: ["a", "b"] }],
  };
  expect(segmentWords(segment)).toBe(
    "platform ios and not (came by a link or saw Pay) and 2 users",
  );
});

test("a funnel is written without what is as it is by itself", () => {
  const spec = readSpec(
    '{"stages":[{"name":"","any":[{"screens":["A"],"event":"","params":{}}]}],"order":"in_order","void":[]}',
  );
  expect(spec && plainSpec(spec)).toEqual({ stages: [{ any: [{ screens: ["A"] }] }] });
  expect(readSpec("[]")).toBeNull();
  expect(readSpec(null)).toBeNull();
  expect(clauseOf("event", "sign_in failed")).toEqual({ event: "sign_in", outcome: "failed" });
  expect(specOfScreens(["A", "B", "A"]).stages).toHaveLength(2);
});

test("a figure of a funnel is said in words", () => {
  const funnel = specOfScreens(["Buy", "Pay"]);
  const words = (cell: string) => figureWords(JSON.stringify({ funnel, cell }));
  expect(words("stage.1")).toBe("got to Pay");
  expect(words("lost.0.to.Terms.v2")).toBe("got to Buy and no further: went to Terms.v2");
});

test("a table goes out without formulas, and with its commas", () => {
  expect(
    csv([
      ["=1+1", -2],
      ['a "b", c', null],
    ]),
  ).toBe('\'=1+1,-2\r\n"a ""b"", c",\r\n');
});
