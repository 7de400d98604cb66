import { describe, expect, it } from "vitest";
import type { Schemas } from "../src/api/client";
import { gapWords, valueWords, verdict } from "../src/charts/Beside";
import { signed, signedTime } from "../src/format";
import { partWords } from "../src/scope/figures";
import { segmentWords } from "../src/scope/segment";
import { firstTwo } from "../src/views/compare/SidesChoice";
import { inView, scopeOf, sideName } from "../src/views/compare/sides";
import { withGroup } from "../src/views/findings/FindingsView";

const BY = { by: "version", one: "3.2", other: "3.1" };
const EARLY = JSON.stringify({ until: "2026-05-17" });
const SCOPE = { unit: "users" as const, segment: JSON.stringify({ screen: "Alerts" }) };

describe("two groups", () => {
  it("are named by value, by days, or as all others", () => {
    expect([sideName(BY, "one"), sideName(BY, "other")]).toEqual(["3.2", "3.1"]);
    expect(sideName({ ...BY, other: "" }, "other")).toBe("all others");
    expect(sideName({ ...BY, one: "" }, "one")).toBe("not told");
    expect(sideName({ one: EARLY, other: "" }, "one")).toBe("the start – 17 May");
    expect(sideName({ one: EARLY, other: "" }, "other")).toBe("all others");
  });

  it("narrow the scope of the page, each to its own journeys", () => {
    expect(scopeOf(SCOPE, BY, "other")).toEqual({ ...SCOPE, part: "3.1", part_by: "version" });
    const rest = scopeOf(SCOPE, { ...BY, other: "" }, "other").segment ?? "";
    expect(JSON.parse(rest)).toEqual({
      all: [{ screen: "Alerts" }, { not: { property: "version", values: ["3.2"] } }],
    });
    const dated = scopeOf({ unit: "users" }, { one: EARLY, other: "" }, "other").segment ?? "";
    expect(JSON.parse(dated)).toEqual({ not: { until: "2026-05-17" } });
  });

  it("are both set in the view that a figure is looked at in", () => {
    const figure = '["exits","Alerts"]';
    expect(inView(BY, figure, "drop-offs")).toMatchObject({ ...BY, figure, split: "by:version" });
    const one = inView({ ...BY, other: "" }, figure, "drop-offs");
    expect(JSON.parse(one.segment ?? "")).toEqual({ property: "version", values: ["3.2"] });
  });

  it("are the latest two of a version, whatever the letters say", () => {
    const values = ["3.10", "3.9", "3.2"].map((name) => ({ name }));
    expect(firstTwo({ name: "version", values })).toEqual({
      by: "version",
      one: "3.10",
      other: "3.9",
    });
  });
});

describe("a difference", () => {
  const gap = { difference: 0.2, low: 0.1, high: 0.3, p: 0.01 };
  const row = { worse: 1, gap, timed: false } as Schemas["Compared"];

  it("is worse by what more of it is", () => {
    expect(verdict(row)).toBe("worse");
    expect(verdict({ ...row, worse: -1 })).toBe("better");
    expect(verdict({ ...row, worse: 0 })).toBe("");
  });

  it("is said as a share or a time, with its sign", () => {
    expect([valueWords(row, 0.5), gapWords(row, -0.1)]).toEqual(["50 %", "−10 %"]);
    const timed = { ...row, timed: true };
    expect([valueWords(timed, 2500), gapWords(timed, -250)]).toEqual(["2.5 s", "−250 ms"]);
    expect([signed(0.9999), signed(-0.0001), signedTime(90)]).toEqual(["+100 %", "0 %", "+90 ms"]);
  });
});

describe("words for parts", () => {
  it("say when, and of which value", () => {
    expect(partWords({ part: "2026-05-04", part_over: "week" })).toBe(
      " (the week from 2026-05-04)",
    );
    expect(partWords({ part: "2026-05-04", part_over: "day" })).toBe(" (on 2026-05-04)");
    expect(partWords({ part: "", part_by: "version" })).toBe(" (version not told)");
    expect(segmentWords({ since: "2026-05-04" })).toBe("from 2026-05-04");
    expect(segmentWords({ since: "2026-05-04", until: "2026-05-10" })).toBe(
      "from 2026-05-04 to 2026-05-10",
    );
  });
});

describe("a finding", () => {
  it("is of its group within the scope of the page", () => {
    const group = JSON.stringify({ property: "version", values: ["3.2"] });
    expect(withGroup(SCOPE, "")).toBe(SCOPE);
    expect(JSON.parse(withGroup(SCOPE, group).segment ?? "")).toEqual({
      all: [{ screen: "Alerts" }, { property: "version", values: ["3.2"] }],
    });
  });
});
