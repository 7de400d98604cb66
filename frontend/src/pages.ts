import type { ComponentType } from "react";
import type { AppSummary } from "./api/client";
import { wordFigures } from "./scope/figures";
import { AppMapView } from "./views/app-map/AppMapView";
import { figureWords as appMapWords } from "./views/app-map/words";
import { DropOffsView } from "./views/drop-offs/DropOffsView";
import { figureWords as fitWords } from "./views/fit/words";
import { FunnelsView } from "./views/funnels/FunnelsView";
import { OnboardingView } from "./views/funnels/OnboardingView";
import { chainWords, figureWords as funnelWords } from "./views/funnels/words";
import { HealthView } from "./views/health/HealthView";
import { dropOffWords, linkWords, loopWords, tabWords } from "./views/inside";
import { JourneysView } from "./views/journeys/JourneysView";
import { LinksView } from "./views/links/LinksView";
import { LogsView } from "./views/logs/LogsView";
import { LoopsView } from "./views/loops/LoopsView";
import { SignInView } from "./views/sign-in/SignInView";
import { gateWords, figureWords as signInWords } from "./views/sign-in/words";
import { StartUpView } from "./views/start-up/StartUpView";
import { figureWords as startUpWords } from "./views/start-up/words";
import { TabsView } from "./views/tabs/TabsView";

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

export const PAGES: Record<string, Page[]> = {
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
};

for (const { words } of Object.values(PAGES).flat()) {
  for (const [measure, said] of Object.entries(words ?? {})) {
    wordFigures(measure, said);
  }
}
