import { useEffect } from "react";
import { Link } from "react-router";
import type { Journey } from "../../api/client";
import { type Across, TrailProfile } from "../../charts/TrailProfile";
import { count, date, duration, time } from "../../format";
import { scopeSearch, useAddress } from "../../scope/scope";
import { isTyping } from "../../shell/keys";
import { specOfScreens } from "../funnels/spec";
import { Beside } from "./Beside";
import { LoopsWalked } from "./LoopsWalked";
import { Matched } from "./Matched";
import { MatchesFound, useMatches } from "./MatchesFound";
import { PickSteps } from "./PickSteps";
import { StepPanel } from "./StepPanel";
import { story } from "./story";
import { useRounds } from "./useRounds";

interface Props {
  app: string;
  journey: Journey;
  /** The journey before is shown until the one asked for is here. */
  stale: boolean;
}

/** Everything about one journey on one screen. */
export function JourneyPage({ app, journey, stale }: Props) {
  const [address, change] = useAddress();
  const last = journey.trail.length;
  const asked = Number(address.get("step") ?? 1);
  const step = Math.min(Math.max(Number.isInteger(asked) ? asked : 1, 1), Math.max(last, 1));
  const held = address.get("beside");
  const across: Across = address.get("across") === "time" ? "time" : "steps";

  useEffect(() => {
    function onKey(event: KeyboardEvent) {
      if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey) {
        return;
      }
      const target = { ArrowLeft: step - 1, ArrowRight: step + 1, Home: 1, End: last }[event.key];
      if (target !== undefined) {
        event.preventDefault();
        change({ step: Math.min(Math.max(target, 1), last) });
      } else if (event.key === "t") {
        change({ across: across === "steps" ? "time" : null });
      } else if (event.key === "b") {
        change({ beside: held === journey.key ? null : journey.key });
      }
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [step, last, across, held, journey.key, change]);

  const rounds = useRounds(app, journey.key);
  const found = useMatches(app, journey.key);
  const inferred = journey.trail.filter((one) => one.inferred).length;
  const unsure = journey.trail.filter((one) => one.unsure).length;
  const about = [
    `${count(journey.steps, "step")} in ${duration(journey.duration)}`,
    `${count(journey.steps - inferred)} reported, ${count(inferred)} inferred${
      inferred ? ` (drawn hollow${unsure ? `; ${count(unsure)} unsure, dotted` : ""})` : ""
    }`,
    ...Object.entries(journey.properties)
      .slice(0, 4)
      .map(([name, value]) => `${name} ${value}`),
    `${date(journey.start)} ${time(journey.start)}`,
  ];
  return (
    <article className="view-body journey-page" aria-busy={stale}>
      <h1>{story(journey)}</h1>
      <p className="soft small-text mb-1 clip" title={about.join(" · ")}>
        {about.join(" · ")}
      </p>
      {last > 0 ? (
        <>
          <Matched
            app={app}
            journey={journey.key}
            step={step}
            onStep={(n) => change({ step: n })}
          />
          <MatchesFound matches={found} step={step} onStep={(n) => change({ step: n })} />
          {found.length === 0 && (
            <LoopsWalked rounds={rounds} step={step} onStep={(n) => change({ step: n })} />
          )}
          <TrailProfile
            journey={journey}
            step={step}
            across={across}
            spans={found.length ? found : rounds}
            onStep={(chosen) => change({ step: chosen })}
          />
          <div className="d-flex flex-wrap column-gap-3 small-text soft mb-2 align-items-center text-nowrap">
            <span>
              <kbd>←</kbd> <kbd>→</kbd> walk
            </span>
            <span>
              <kbd>↑</kbd> <kbd>↓</kbd> next journey
            </span>
            <button
              type="button"
              className="figure-button"
              onClick={() => change({ across: across === "steps" ? "time" : null })}
            >
              <kbd>t</kbd> draw by {across === "steps" ? "time" : "steps"}
            </button>
            <button
              type="button"
              className="figure-button"
              disabled={held === journey.key}
              onClick={() => change({ beside: journey.key })}
            >
              <kbd>b</kbd>{" "}
              {held === journey.key ? "held: choose another to see both" : "hold beside another"}
            </button>
            <Link
              to={{
                pathname: "/funnels",
                search: scopeSearch(address, {
                  funnel: JSON.stringify(specOfScreens(journey.trail.map((one) => one.screen))),
                }),
              }}
            >
              make its screens a funnel
            </Link>
            <PickSteps journey={journey} step={step} />
          </div>
          {held && held !== journey.key && (
            <Beside
              app={app}
              held={held}
              across={across}
              onLetGo={() => change({ beside: null })}
              onWalk={(chosen) => change({ journey: held, beside: journey.key, step: chosen })}
            />
          )}
          {!stale && <StepPanel app={app} journey={journey} step={step} />}
        </>
      ) : (
        <p className="mt-3">
          No screen was shown in this session: its rows say only that the app was started, left, or
          the like.
        </p>
      )}
    </article>
  );
}
