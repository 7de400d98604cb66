/** An app map as its file has it, and the changes that a person makes to it, each a new one. */
export interface ScreenEntry {
  name: string;
  role?: string;
  tab?: string;
  tabs?: string[];
  aliases?: string[];
  [other: string]: unknown;
}

export interface MapDocument {
  mossy_map: 1;
  screens?: ScreenEntry[];
  tabs?: { name: string; root?: string; kind?: string; on?: string }[];
  history?: Record<string, string>;
  links?: { pattern: string; screen: string }[];
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

/** The tabs in which a screen is said to live; a root in its own. */
export function tabsOf(map: MapDocument, screen: ScreenEntry): string[] {
  const root = map.tabs?.find((tab) => tab.root === screen.name);
  if (root) {
    return [root.name];
  }
  return screen.tabs ?? (screen.tab ? [screen.tab] : []);
}
