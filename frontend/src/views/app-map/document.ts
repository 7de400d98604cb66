/** An app map as its file has it, and the changes that a person makes to it, each a new one. */
export interface ScreenEntry {
  name: string;
  role?: string;
  tab?: string;
  tabs?: string[];
  aliases?: string[];
  routes?: string[];
  [other: string]: unknown;
}

type Lists = Record<string, string[]>;

export interface TabEntry {
  name: string;
  root?: string;
  kind?: string;
  on?: string;
  shown_to?: Lists;
}

export interface MapDocument {
  mossy_map: 1;
  screens?: ScreenEntry[];
  tabs?: TabEntry[];
  history?: Record<string, string>;
  links?: { pattern: string; screen: string; under?: string; placeholders?: Lists }[];
  gates?: { name?: string; protects: string[]; sends_to?: string }[];
  [other: string]: unknown;
}

export const ROLES = [
  "content",
  "splash",
  "onboarding",
  "sign_in",
  "sign_up",
  "recovery",
  "sheet",
  "menu",
  "error",
  "not_found",
] as const;

/** The history rules, what each is about, and its settings; the first holds where none is given. */
export const HISTORY: Record<string, { about: string; settings: Record<string, string> }> = {
  tabs: {
    about: "choosing another tab",
    settings: {
      keep: "resumes its own stack",
      reset: "starts at its root",
      shared: "adds to one stack for all",
    },
  },
  root_back: {
    about: "back at a tab's root",
    settings: {
      exit: "leaves the app",
      first_tab: "goes to the first tab",
      previous_tab: "goes to the tab before",
      bar_order: "goes to the next tab to the left",
    },
  },
  reselect: {
    about: "choosing the selected tab again",
    settings: { stay: "changes nothing", to_root: "goes to its root" },
  },
  link_cold: {
    about: "a link that starts the app",
    settings: { parents: "lands over its tab's root", alone: "lands alone" },
  },
  link_warm: {
    about: "a link in the running app",
    settings: {
      over: "lands on its tab's kept stack",
      parents: "lands over its tab's root",
      alone: "lands alone",
    },
  },
  restart: {
    about: "starting the app again",
    settings: { fresh: "begins with no stack", restore: "brings the last stacks back" },
  },
  outside: {
    about: "screens before the tabs, once inside",
    settings: { cleared: "are gone", kept: "stay underneath" },
  },
  across: {
    about: "going on to a screen of another tab",
    settings: {
      there: "selects that tab, and lies on its stack",
      here: "puts it on the visible stack",
    },
  },
};

/** What may lie under the screen of a single link, whatever the rules say of links. */
export const UNDER: Record<string, string> = {
  parents: "over its tab's root",
  alone: "alone",
};

export function settingOf(map: MapDocument, rule: string): string {
  return map.history?.[rule] ?? Object.keys(HISTORY[rule]?.settings ?? {})[0] ?? "";
}

function changed(
  map: MapDocument,
  name: string,
  change: (screen: ScreenEntry) => ScreenEntry,
): MapDocument {
  const screens = map.screens ?? [];
  return { ...map, screens: screens.map((one) => (one.name === name ? change(one) : one)) };
}

/** The unknown name stands for this screen from now on. */
export function withAlias(map: MapDocument, screen: string, alias: string): MapDocument {
  return changed(map, screen, (one) => ({ ...one, aliases: [...(one.aliases ?? []), alias] }));
}

/** The name is a screen of its own. */
export function withScreen(map: MapDocument, name: string): MapDocument {
  return { ...map, screens: [...(map.screens ?? []), { name }] };
}

export function withRole(map: MapDocument, screen: string, role: string): MapDocument {
  return changed(map, screen, ({ role: _, ...rest }) =>
    role === "content" ? rest : { ...rest, role },
  );
}

/** The screen lives in this tab; in none where it is empty. */
export function withTab(map: MapDocument, screen: string, tab: string): MapDocument {
  return changed(map, screen, ({ tab: _, tabs: __, ...rest }) => (tab ? { ...rest, tab } : rest));
}

export function withSetting(map: MapDocument, rule: string, setting: string): MapDocument {
  return { ...map, history: { ...map.history, [rule]: setting } };
}

export function withUnder(map: MapDocument, pattern: string, under: string): MapDocument {
  const links = (map.links ?? []).map((link) =>
    link.pattern === pattern ? { ...link, under } : link,
  );
  return { ...map, links };
}

/** The tabs in which a screen is said to live; a root in its own. */
export function tabsOf(map: MapDocument, screen: ScreenEntry): string[] {
  const root = map.tabs?.find((tab) => tab.root === screen.name);
  if (root) {
    return [root.name];
  }
  return screen.tabs ?? (screen.tab ? [screen.tab] : []);
}

/** A line of a table: texts by column. */
export type Entry = Record<string, string>;

/** `role = crew, staff; plan = gold` */
export function listsWritten(lists: Lists | undefined): string {
  return Object.entries(lists ?? {})
    .map(([key, values]) => `${key} = ${values.join(", ")}`)
    .join("; ");
}

export function listsRead(text: string | undefined): Lists | undefined {
  const lists = (text ?? "")
    .split(";")
    .map((one) => one.split("="))
    .filter(([key, values]) => key?.trim() && values?.trim())
    .map(([key, values]) => [key?.trim(), listRead(values)]);
  return lists.length ? Object.fromEntries(lists) : undefined;
}

function listRead(text: string | undefined): string[] {
  return (text ?? "")
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean);
}

/** The entry without what is empty: a map's file says nothing of it. */
function written<T extends object>(entry: T): T {
  return Object.fromEntries(
    Object.entries(entry).filter(([, value]) => value !== undefined && value !== ""),
  ) as T;
}

export function placesOf(map: MapDocument): Entry[] {
  return (map.tabs ?? []).map((tab) => ({
    name: tab.name,
    kind: tab.kind ?? "place",
    screen: (tab.kind === "filter" ? tab.on : tab.root) ?? "",
    shown_to: listsWritten(tab.shown_to),
  }));
}

export function withPlaces(map: MapDocument, entries: Entry[]): MapDocument {
  const tabs = entries.map((entry) =>
    written<TabEntry>({
      name: entry.name ?? "",
      ...(entry.kind === "filter" ? { kind: "filter", on: entry.screen } : { root: entry.screen }),
      shown_to: listsRead(entry.shown_to),
    }),
  );
  return { ...map, tabs };
}

export function linksOf(map: MapDocument): Entry[] {
  return (map.links ?? []).map((link) => ({
    ...link,
    placeholders: listsWritten(link.placeholders),
  }));
}

export function withLinks(map: MapDocument, entries: Entry[]): MapDocument {
  const links = entries.map((entry) =>
    written({
      pattern: entry.pattern ?? "",
      screen: entry.screen ?? "",
      under: entry.under,
      placeholders: listsRead(entry.placeholders),
    }),
  );
  return { ...map, links };
}

export function routesOf(map: MapDocument): Entry[] {
  return (map.screens ?? []).flatMap((screen) =>
    (screen.routes ?? []).map((route) => ({ route, screen: screen.name })),
  );
}

export function withRoutes(map: MapDocument, entries: Entry[]): MapDocument {
  const screens = (map.screens ?? []).map(({ routes: _, ...screen }) => {
    const own = entries.filter((entry) => entry.screen === screen.name);
    const routes = own.map((entry) => entry.route ?? "").filter(Boolean);
    return routes.length ? { ...screen, routes } : screen;
  });
  return { ...map, screens: screens as ScreenEntry[] };
}

export function gatesOf(map: MapDocument): Entry[] {
  return (map.gates ?? []).map((gate) => ({
    name: gate.name ?? "",
    protects: gate.protects.join(", "),
    sends_to: gate.sends_to ?? "",
  }));
}

export function withGates(map: MapDocument, entries: Entry[]): MapDocument {
  const gates = entries.map((entry) =>
    written({ name: entry.name, protects: listRead(entry.protects), sends_to: entry.sends_to }),
  );
  return { ...map, gates };
}
