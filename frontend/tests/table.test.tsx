// @vitest-environment happy-dom
import { cleanup, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter } from "react-router";
import { afterEach, describe, expect, it } from "vitest";
import type { Count } from "../src/api/client";
import { half, middle, name, number, share, times } from "../src/shell/columns";
import { DataTable, sheet } from "../src/shell/DataTable";
import { csv } from "../src/shell/TakeAway";

afterEach(cleanup);

interface Screen {
  name: string;
  visits: Count;
  exits: { count: number; of: number } | null;
  dwell: { median: number; first: number; third: number } | null;
  depth: number | null;
}

const counted = (many: number, users: number): Count => ({
  figure: `f${many}`,
  times: many,
  journeys: many,
  users,
});
const ODD = ["=cmd|x", '"quoted", twice', "‏خريطة", "<script>alert(1)</script>", "x".repeat(200)];
const ROWS: Screen[] = ODD.map((name, i) => ({
  name,
  visits: counted(10 * (i + 1), 5 - i),
  exits: i === 2 ? null : { count: i, of: 8 },
  dwell: i === 1 ? null : { median: 1500 - 100 * i, first: 100, third: 9000 },
  depth: i === 3 ? null : 1000 * i,
}));
const COLUMNS = [
  name<Screen>("screen", (row) => row.name),
  times<Screen>("visits", (row) => row.visits),
  share<Screen>("ended", (row) => row.exits),
  middle<Screen>("stay", (row) => row.dwell),
  number<Screen>("depth", (row) => row.depth),
  ...half<Screen>("half within", (row) => row.dwell),
];

function shown(search = "", rows = ROWS) {
  cleanup();
  render(
    <MemoryRouter initialEntries={[`/${search}`]}>
      <DataTable name="screens" columns={COLUMNS} rows={rows} id={(row) => row.name} testid="t" />
    </MemoryRouter>,
  );
  return () =>
    within(screen.getByTestId("t"))
      .getAllByRole("row")
      .slice(1)
      .map((row) => [...row.querySelectorAll("td")].map((cell) => cell.textContent ?? ""));
}

describe("a table", () => {
  it("shows names as text, and a dash where nothing is known", () => {
    const cells = shown()();
    expect(cells.map(([screen]) => screen)).toEqual(ODD);
    expect(document.querySelector("td script")).toBeNull();
    expect(cells[1]?.[3]).toBe("–");
    expect(cells[2]?.[2]).toBe("–");
    expect(cells[3]?.[4]).toBe("–");
    expect(cells[4]?.[4]).toBe("4,000");
    expect(cells.map((row) => row.length)).toEqual(ROWS.map(() => 6));
    expect(cells[0]?.[5]).toBe("100 ms – 9.0 s");
  });

  it("counts times, or users where users are counted", () => {
    expect(shown()().map((cells) => cells[1])).toEqual(["10", "20", "30", "40", "50"]);
    expect(shown("?unit=users")().map((cells) => cells[1])).toEqual(["5", "4", "3", "2", "1"]);
  });

  it("sorts by any heading, what is not known last either way", async () => {
    const cells = shown();
    for (const [heading, place, unknown] of [
      ["ended", 2, ODD[2]],
      ["stay", 3, ODD[1]],
      ["depth", 4, ODD[3]],
    ] as const) {
      const button = screen.getByRole("button", { name: heading });
      await userEvent.click(button);
      const down = cells();
      await userEvent.click(button);
      const up = cells();
      expect(down.at(-1)?.[0]).toBe(unknown);
      expect(up.at(-1)?.[0]).toBe(unknown);
      expect(up.slice(0, -1)).toEqual(down.slice(0, -1).reverse());
      expect(down.at(-1)?.[place]).toBe("–");
    }
  });

  it("is searched where it is long, and cut short until all is asked for", async () => {
    const many = Array.from({ length: 60 }, (_, i) => ({ ...(ROWS[0] as Screen), name: `s${i}` }));
    const cells = shown("", many);
    expect(cells()).toHaveLength(40);
    await userEvent.click(screen.getByRole("button", { name: "show all 60" }));
    expect(cells()).toHaveLength(60);
    await userEvent.type(screen.getByRole("searchbox"), "s5");
    expect(cells().map(([screen]) => screen)).toEqual([
      "s5",
      ...Array.from({ length: 10 }, (_, i) => `s5${i}`),
    ]);
  });

  it("is one with its file, in which no name is a formula", () => {
    const held = sheet(COLUMNS, ROWS, (own) => own.times);
    const both = ["half within: from, ms", "half within: to, ms"];
    expect(held[0]).toEqual(["screen", "visits", "ended", "stay, ms", "depth", ...both]);
    expect(held[1]).toEqual([ODD[0], 10, 0, 1500, 0, 100, 9000]);
    expect(held[2]).toEqual([ODD[1], 20, 1 / 8, null, 1000, null, null]);
    const lines = csv(held).split("\r\n");
    expect(lines[1]?.startsWith("'=cmd|x,10,0,1500,0,100,9000")).toBe(true);
    expect(lines[2]).toBe('"""quoted"", twice",20,0.125,,1000,,');
    expect(lines).toHaveLength(ROWS.length + 2);
  });
});
