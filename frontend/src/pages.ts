import { type ComponentType, lazy } from "react";
import type { AppSummary } from "./api/client";
import type { Role } from "./api/team";
import { wordFigures } from "./scope/figures";
import { VIEWS } from "./shell/views";
import { figureWords as appMapWords } from "./views/app-map/words";
import { figureWords as fitWords } from "./views/fit/words";
import { chainWords, figureWords as funnelWords } from "./views/funnels/words";
import { dropOffWords, linkWords, loopWords, tabWords } from "./views/inside";
import { pathWords } from "./views/paths/asked";
import { patternWords } from "./views/patterns/words";
import { gateWords, figureWords as signInWords } from "./views/sign-in/words";
import { figureWords as startUpWords } from "./views/start-up/words";

/** Views are read when they are first gone to. */
const AccountView = lazy(async () => ({
  default: (await import("./views/team/AccountView")).AccountView,
}));
const AppMapView = lazy(async () => ({
  default: (await import("./views/app-map/AppMapView")).AppMapView,
}));
const CompareView = lazy(async () => ({
  default: (await import("./views/compare/CompareView")).CompareView,
}));
const DropOffsView = lazy(async () => ({
  default: (await import("./views/drop-offs/DropOffsView")).DropOffsView,
}));
const FunnelsView = lazy(async () => ({
  default: (await import("./views/funnels/FunnelsView")).FunnelsView,
}));
const OnboardingView = lazy(async () => ({
  default: (await import("./views/funnels/OnboardingView")).OnboardingView,
}));
const FindingsView = lazy(async () => ({
  default: (await import("./views/findings/FindingsView")).FindingsView,
}));
const HealthView = lazy(async () => ({
  default: (await import("./views/health/HealthView")).HealthView,
}));
const JourneysView = lazy(async () => ({
  default: (await import("./views/journeys/JourneysView")).JourneysView,
}));
const LinksView = lazy(async () => ({
  default: (await import("./views/links/LinksView")).LinksView,
}));
const LogsView = lazy(async () => ({ default: (await import("./views/logs/LogsView")).LogsView }));
const LoopsView = lazy(async () => ({
  default: (await import("./views/loops/LoopsView")).LoopsView,
}));
const PathsView = lazy(async () => ({
  default: (await import("./views/paths/PathsView")).PathsView,
}));
const PatternsView = lazy(async () => ({
  default: (await import("./views/patterns/PatternsView")).PatternsView,
}));
const SignInView = lazy(async () => ({
  default: (await import("./views/sign-in/SignInView")).SignInView,
}));
const PeopleView = lazy(async () => ({
  default: (await import("./views/team/PeopleView")).PeopleView,
}));
const StartUpView = lazy(async () => ({
  default: (await import("./views/start-up/StartUpView")).StartUpView,
}));
const TabsView = lazy(async () => ({ default: (await import("./views/tabs/TabsView")).TabsView }));

/** A page: it stands in the navigation, in the routes, in the list of keys and in what is said of
 * its figures, from this one entry. */
export interface Page {
  path: string;
  word: string;
  icon: string;
  /** After g, it leads there. */
  key: string;
  view: ComponentType<{ app: AppSummary }>;
  /** Of each measure whose figures it shows: what the journeys behind one have in common. */
  words?: Record<string, (figure: string) => string>;
}

export type Pages = Record<string, Page[]>;

export const PAGES: Pages = {
  "Bring in": [
    { path: "/logs", word: "Logs", icon: "box-arrow-in-down", key: "l", view: LogsView },
    {
      path: "/health",
      word: "Health",
      icon: "clipboard2-pulse",
      key: "h",
      view: HealthView,
      words: { fit: fitWords },
    },
    {
      path: "/app-map",
      word: "App map",
      icon: "map",
      key: "m",
      view: AppMapView,
      words: { "app-map": appMapWords },
    },
  ],
  Walk: [
    { path: "/journeys", word: "Journeys", icon: "signpost-split", key: "j", view: JourneysView },
  ],
  "Getting in": [
    {
      path: "/start-up",
      word: "Start-up",
      icon: "power",
      key: "u",
      view: StartUpView,
      words: { "start-up": startUpWords },
    },
    {
      path: "/onboarding",
      word: "Onboarding",
      icon: "ladder",
      key: "o",
      view: OnboardingView,
      words: { onboarding: chainWords },
    },
    {
      path: "/sign-in",
      word: "Sign-in",
      icon: "door-open",
      key: "s",
      view: SignInView,
      words: { "sign-in": signInWords, gates: gateWords },
    },
    {
      path: "/funnels",
      word: "Own funnels",
      icon: "funnel",
      key: "f",
      view: FunnelsView,
      words: { funnel: funnelWords },
    },
  ],
  "Inside and out": [
    {
      path: "/tabs",
      word: "Tabs",
      icon: "segmented-nav",
      key: "a",
      view: TabsView,
      words: { tabs: tabWords },
    },
    {
      path: "/loops",
      word: "Loops",
      icon: "arrow-repeat",
      key: "r",
      view: LoopsView,
      words: { loops: loopWords },
    },
    {
      path: "/links",
      word: "Deep links",
      icon: "link-45deg",
      key: "k",
      view: LinksView,
      words: { links: linkWords },
    },
    {
      path: "/drop-offs",
      word: "Drop-offs",
      icon: "box-arrow-right",
      key: "d",
      view: DropOffsView,
      words: { "drop-offs": dropOffWords },
    },
  ],
  "Ask freely": [
    {
      path: "/paths",
      word: "Paths",
      icon: "diagram-2",
      key: "p",
      view: PathsView,
      words: { paths: pathWords },
    },
    {
      path: "/patterns",
      word: "Patterns",
      icon: "regex",
      key: "e",
      view: PatternsView,
      words: { patterns: patternWords },
    },
  ],
  Tell: [
    {
      path: "/compare",
      word: "Compare",
      icon: "layout-split",
      key: "c",
      view: CompareView,
    },
    {
      path: "/findings",
      word: "Findings",
      icon: "flag",
      key: "i",
      view: FindingsView,
    },
  ],
};

/** Pages of a server where people sign in: their own, and for who manages the app all of them. */
export function teamPages(role: Role): Pages {
  const people = { path: "/people", word: "People", icon: "people", key: "w", view: PeopleView };
  const own = { path: "/account", word: "My account", icon: "person", key: "y", view: AccountView };
  return { Team: role === "manage" ? [people, own] : [own] };
}

for (const { path, word, words } of Object.values(PAGES).flat()) {
  for (const [measure, said] of Object.entries(words ?? {})) {
    wordFigures(measure, said);
    VIEWS[measure] = { path, word };
  }
}
