// @vitest-environment happy-dom
import { act, cleanup, renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, useLocation, useNavigate } from "react-router";
import { afterEach, describe, expect, it } from "vitest";
import { scopeSearch, useAddress, useOpenedScope, useScope } from "../src/scope/scope";

afterEach(cleanup);

const useAll = () => ({
  scope: useScope(),
  opened: useOpenedScope(),
  address: useAddress(),
  navigate: useNavigate(),
  search: useLocation().search,
});

/** What the address says, and the means to change it, on a page that has a history. */
function page(search: string) {
  const wrapper = ({ children }: { children: ReactNode }) => (
    <MemoryRouter initialEntries={[`/${search}`]}>{children}</MemoryRouter>
  );
  const { result } = renderHook(useAll, { wrapper });
  return {
    told: () => result.current,
    change: (parts: Record<string, string | number | null>) =>
      act(async () => result.current.address[1](parts)),
    back: () => act(async () => result.current.navigate(-1)),
    search: () => result.current.search,
  };
}

describe("the scope in the address", () => {
  it("is what every view asks about; what it cannot be is left out", () => {
    const asked = "?since=2026-05-04&until=May&unit=moons&segment=%7B%7D&odd_clocks=yes&x=1";
    expect(page(asked).told().scope).toEqual({
      since: "2026-05-04",
      unit: "sessions",
      segment: "{}",
    });
    expect(page("?unit=users&odd_clocks=true").told().scope).toEqual({
      unit: "users",
      odd_clocks: true,
    });
  });

  it("is narrowed to a group by what sorts it, to the one without a value too", () => {
    expect(page("?part=3.1&part_by=version").told().opened).toEqual({
      unit: "sessions",
      part: "3.1",
      part_by: "version",
    });
    expect(page("?part=&part_by=version").told().opened).toMatchObject({ part: "" });
    expect(page("?part=2026-05-04&part_over=week").told().opened).toMatchObject({
      part_over: "week",
    });
    expect(page("?part=3.1").told().opened).toEqual({ unit: "sessions" });
  });

  it("goes along to another view, and nothing else does", () => {
    const here = new URLSearchParams("app=a&unit=users&figure=x&segment=%7B%22a%22%3A1%7D");
    const there = new URLSearchParams(scopeSearch(here, { figure: "y & z" }));
    expect(Object.fromEntries(there)).toEqual({
      app: "a",
      unit: "users",
      segment: '{"a":1}',
      figure: "y & z",
    });
    expect(scopeSearch(new URLSearchParams("journey=3"))).toBe("");
  });
});

describe("going back", () => {
  it("undoes a choice, but not each key press of a search", async () => {
    const view = page("?app=a");
    await view.change({ figure: "tab" });
    await view.change({ search: "s" });
    await view.change({ search: "se" });
    expect(Object.fromEntries(view.told().address[0])).toEqual({
      app: "a",
      figure: "tab",
      search: "se",
    });
    await view.back();
    expect(view.search()).toBe("?app=a");
  });

  it("finds no group of the figure before on another one", async () => {
    const view = page("?figure=one&part=3.1&part_by=version&part_over=");
    await view.change({ figure: "two" });
    expect(view.search()).toBe("?figure=two");
    await view.change({ part: "", part_by: "version" });
    expect(view.told().opened).toMatchObject({ part: "", part_by: "version" });
    await view.change({ figure: null });
    expect(view.search()).toBe("");
  });
});
