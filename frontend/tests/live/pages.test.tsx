/**
 * Every page with what a real server answers, in all the states that its apps' logs bring about.
 *
 * `MOSSY_SERVER` names the server, and `MOSSY_APPS` the apps; figures are those of its demo.
 */
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { BrowserRouter } from "react-router";
import { afterEach, beforeAll, describe, expect, test, vi } from "vitest";
import { App } from "../../src/App";
import { PAGES } from "../../src/pages";

const paths = Object.values(PAGES)
  .flat()
  .map((page) => page.path);
const MEASURED = [
  "/start-up",
  "/onboarding",
  "/sign-in",
  "/tabs",
  "/loops",
  "/links",
  "/drop-offs",
  "/paths",
];
const MAP_PARTS = ["", "connections", "picture", "history", "practice", "draft"];
const DEMO = "skerry-crossings";
const LONG = 120_000;
const PATIENTLY = { timeout: 20_000 };
declare const process: { env: Record<string, string | undefined> };
let apps: { key: string; name: string; logs: number }[] = [];
let files: Promise<string>[] = [];

beforeAll(async () => {
  vi.stubGlobal(
    "EventSource",
    class {
      addEventListener() {}
      close() {}
    },
  );
  URL.createObjectURL = (file) => {
    files.push((file as Blob).text());
    return "#file";
  };
  const all = (await (await fetch("/api/apps")).json()) as typeof apps;
  const own = process.env.MOSSY_APPS?.split(",") ?? [];
  apps = all.filter((app) => own.includes(app.key));
});

afterEach(() => {
  cleanup();
  files = [];
});

async function open(path: string, search: Record<string, string>): Promise<void> {
  window.history.pushState(null, "", `${path}?${new URLSearchParams(search)}`);
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>,
  );
  await screen.findByRole("main", undefined, PATIENTLY);
  await waitFor(() => {
    expect(queries.isFetching()).toBe(0);
    expect(main("h1, h2").length).toBeGreaterThan(0);
  }, PATIENTLY);
}

function main<Found extends Element = HTMLElement>(css: string): Found[] {
  return [...document.querySelectorAll<Found>(`main ${css.replaceAll(", ", ", main ")}`)];
}

/** What holds on every page, whatever is in a log. */
function expectToBeSound(): void {
  expect(document.body.textContent).not.toMatch(
    /\bNaN\b|\bundefined\b|\bInfinity\b|\[object |Something broke/,
  );
  expect(main("script, img, iframe")).toEqual([]);
  for (const table of main("table")) {
    const heads = table.querySelectorAll("thead tr:first-child > *").length;
    for (const row of table.querySelectorAll<HTMLTableRowElement>("tbody tr")) {
      const cells = [...row.cells].reduce((n, cell) => n + cell.colSpan, 0);
      expect(heads === 0 || cells === heads, table.outerHTML.slice(0, 400)).toBe(true);
    }
  }
  for (const button of main("button, [role=button]")) {
    const called = button.textContent || button.getAttribute("aria-label");
    expect(called, button.outerHTML).toBeTruthy();
  }
  for (const part of main("svg *")) {
    for (const at of ["d", "x", "y", "cx", "cy", "r", "width", "height", "transform", "points"]) {
      expect(part.getAttribute(at) ?? "", part.outerHTML).not.toMatch(/NaN|Infinity|undefined/);
    }
    for (const at of ["width", "height", "r"]) {
      expect(Number.parseFloat(part.getAttribute(at) ?? "0"), part.outerHTML).not.toBeLessThan(0);
    }
  }
}

const numbers = (said: string) =>
  (said.match(/[\d,]+/g) ?? []).map((n) => Number(n.replaceAll(",", "")));

/** How many journeys a button says that there are behind it; null where it says only how often. */
function promised(button: HTMLElement): number | null {
  const found = /in ([\d,]+) journey/.exec(button.title);
  return found?.[1] ? (numbers(found[1])[0] ?? null) : null;
}

function evidence(): number | undefined {
  const said = document.querySelector("[data-testid=evidence-count]")?.textContent;
  return numbers(said ?? "")[0];
}

test("there are apps of all kinds", () => {
  expect(apps.filter((app) => !app.logs).length).toBeGreaterThan(0);
  expect(apps.filter((app) => app.logs).length).toBeGreaterThan(4);
});

describe.each(paths)("%s", (path) => {
  test("is sound, whatever the log", { timeout: LONG }, async () => {
    for (const app of apps) {
      for (const show of path === "/app-map" ? MAP_PARTS : [""]) {
        await open(path, { app: app.key, show });
        expectToBeSound();
        cleanup();
      }
    }
  });
});

describe.each(MEASURED)("%s", (path) => {
  test("tells of groups, and of users", { timeout: LONG }, async () => {
    await open(path, {
      app: DEMO,
      by: "platform",
      one: "ios",
      other: "android",
      unit: "users",
    });
    expectToBeSound();
    const groups = main("[data-testid=groups] tbody tr").map((row) => row.textContent ?? "");
    expect(groups.map((said) => said.replace(/\W.*|\d.*/, "")).sort()).toEqual(["android", "ios"]);
    expect(main("[data-testid=between]")[0]?.textContent).toMatch(/^ios less android.*to/);
  });

  test("opens as many journeys as a figure says", { timeout: LONG }, async () => {
    await open(path, { app: DEMO });
    const told = main("table [data-figure]").filter((button) => promised(button) !== null);
    for (const button of told.filter((_, i) => i % Math.ceil(told.length / 8) === 0)) {
      await userEvent.click(button);
      const said = button.dataset.figure;
      await waitFor(() => expect(evidence(), said).toBe(promised(button)), PATIENTLY);
      await userEvent.click(button);
      expect(evidence()).toBeUndefined();
    }
  });

  test("sorts its tables, and gives them as files", { timeout: LONG }, async () => {
    await open(path, { app: DEMO, goal: "Receipt" });
    for (const button of main("button").filter((one) => one.textContent === "CSV")) {
      await userEvent.click(button);
    }
    const sheets = (await Promise.all(files)).map((file) => file.trimEnd().split("\r\n"));
    expect(sheets.length).toBeGreaterThan(0);
    for (const [head = "", ...rows] of sheets) {
      const titles = head.match(/"[^"]*"|[^,]+/g) ?? [];
      expect(new Set(titles).size, head).toBe(titles.length);
      expect(rows.length, head).toBeGreaterThan(0);
    }
    for (const table of main("table")) {
      const rows = () =>
        [...table.querySelectorAll("tbody tr")].map((row) => row.textContent ?? "");
      const all = new Set(rows());
      for (const heading of table.querySelectorAll<HTMLElement>("th .heading")) {
        await userEvent.click(heading);
        const sorted = heading.closest("th")?.getAttribute("aria-sort");
        expect(["ascending", "descending"], heading.textContent ?? "").toContain(sorted);
        if (all.size < 20) {
          expect(new Set(rows())).toEqual(all);
        }
      }
    }
  });
});
