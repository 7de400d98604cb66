import { figureWords as ofAppMap } from "./app-map/words";
import { figureWords as ofFit } from "./fit/words";
import { chainWords, figureWords as ofFunnel } from "./funnels/words";
import { dropOffWords, linkWords, loopWords, tabWords } from "./inside";
import { gateWords as ofGates, figureWords as ofSignIn } from "./sign-in/words";
import { figureWords as ofStartUp } from "./start-up/words";

const WORDS: Record<string, (figure: string) => string> = {
  "app-map": ofAppMap,
  "drop-offs": dropOffWords,
  links: linkWords,
  loops: loopWords,
  tabs: tabWords,
  fit: ofFit,
  funnel: ofFunnel,
  gates: ofGates,
  onboarding: chainWords,
  "sign-in": ofSignIn,
  "start-up": ofStartUp,
};

/** What the journeys behind a figure have in common, after their number. */
export function figureWords(measure: string, figure: string): string {
  return WORDS[measure]?.(figure) ?? "";
}
