import type { AppSummary, DropOffFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { ExitBars } from "../../charts/ExitBars";
import { Survival } from "../../charts/Survival";
import { count, EXIT_WORDS, percent, short, shownName } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { CountButton } from "../../shell/CountButton";
import { GoalChoice } from "../../shell/GoalChoice";
import { useGroups } from "../../shell/GroupChoice";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { WHY } from "../inside";

/** Where journeys end, beyond what is to be expected of where those screens stand. */
export function DropOffsView({ app }: { app: AppSummary }) {
  const [address] = useAddress();
  const goal = address.get("goal") ?? "";
  const answer = useMeasure(app.key, "drop-offs", useScope(), {
    params: { goal },
    groups: useGroups(),
  });
  return (
    <MeasureView
      app={app}
      measure="drop-offs"
      answer={answer}
      sentence={sentence}
      purpose="this page shows on which screens journeys end"
      columns={(whole) =>
        whole.screens
          .filter((one) => one.excess > 0)
          .slice(0, 5)
          .map(({ screen }) => ({
            title: `exits of ${screen}`,
            share: (found) => found.screens.find((one) => one.screen === screen)?.rate,
            path: `screens/${screen}/rate`,
            figure: (found) => found.screens.find((one) => one.screen === screen)?.exits.figure,
            colour: "var(--rust)",
          }))
      }
    >
      {(found) => (
        <>
          <p className="soft small-text mb-2">
            Expected is how many exits a screen would have if only its depth, how far into the
            journey it comes, and how that began told who leaves: so a natural end does not top the
            list. Ends after which the user comes back to the same screen within a day are pauses,
            and no exits here; journeys that the log's end cut off are left out.
          </p>
          {found.ended > 0 && <Exits app={app.key} found={found} />}
          <div className="d-flex flex-wrap gap-3 align-items-baseline mb-1">
            <GoalChoice app={app.key} none="weigh by a goal …" />
            {found.goal_chance !== null && goal && (
              <span className="small-text">
                {percent(found.goal_chance)} of journeys reach {goal}, by the ways that are walked;
                the last column says how much more would if a screen lost no one.
              </span>
            )}
          </div>
          <Screens found={found} />
          <Survivors app={app.key} found={found} />
        </>
      )}
    </MeasureView>
  );
}

function sentence(found: DropOffFigures): string {
  const [worst, next] = found.screens;
  if (!found.ended || !worst) {
    return `None of ${count(found.in_scope, "journey")} in scope has ended.`;
  }
  const more = (one: DropOffFigures["screens"][number]) =>
    `${one.screen} (${count(one.true.times)}, where ${count(Math.round(one.expected))} are to be expected)`;
  const second = next && next.excess > 1 ? `, then ${more(next)}` : "";
  return `Of ${count(found.ended, "journey")} that ended, most beyond what is to be expected did on ${more(worst)}${second}.`;
}

function table(found: DropOffFigures): (string | number | null)[][] {
  return [
    ["screen", "visits", "exits", "true exits", "expected", "excess", `weight for ${found.goal}`],
    ...found.screens.map((one) => [
      one.screen,
      one.visits.times,
      one.exits.times,
      one.true.times,
      one.expected,
      one.excess,
      one.weight ?? null,
    ]),
  ];
}

function Screens({ found }: { found: DropOffFigures }) {
  const shown = telling(found).slice(0, 60);
  const few = found.screens.filter((one) => one.exits.times && !shown.includes(one));
  const weighed = shown.some((one) => one.weight !== null);
  return (
    <>
      <table className="table table-sm plain" data-testid="drop-offs">
        <thead>
          <tr>
            <th>screen</th>
            <th className="n">exits</th>
            <th className="n">of visits · of all</th>
            <th className="n">true exits</th>
            <th className="n">excess</th>
            <th>what came last</th>
            <th>how it ended</th>
            {weighed && <th className="n">weight</th>}
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.screen}>
              <td className="clip" style={{ maxWidth: "12rem" }} title={one.screen}>
                {shownName(one.screen)}
              </td>
              <td className="n">
                <CountButton own={one.exits} times />
              </td>
              <td className="n soft">
                {percent(one.rate.count / one.rate.of || 0)} ·{" "}
                {percent(one.exits.times / (found.ended || 1))}
              </td>
              <td className="n">
                <CountButton own={one.true} times />
              </td>
              <td className={`n ${one.excess > 0 ? "" : "soft"}`}>
                {Math.abs(one.excess) < 0.5 ? "±" : one.excess > 0 ? "+" : "−"}
                {count(Math.round(Math.abs(one.excess)))}
              </td>
              <td className="small-text">
                {[
                  ...Object.entries(one.why)
                    .filter(([why]) => why !== "quiet")
                    .map(([why, own]) => ({ said: WHY[why], own })),
                  ...Object.entries(one.before)
                    .slice(0, 2)
                    .map(([screen, own]) => ({ said: `from ${screen}`, own })),
                ].map(({ said, own }, i) => (
                  <span key={own.figure}>
                    {i > 0 && " · "}
                    {said} <CountButton own={own} times />
                  </span>
                ))}
              </td>
              <td className="small-text">
                {Object.entries(one.kinds)
                  .filter(([, own]) => own.times)
                  .map(([kind, own], i) => (
                    <span key={kind}>
                      {i > 0 && " · "}
                      {EXIT_WORDS[kind] ?? kind} <CountButton own={own} times />
                    </span>
                  ))}
              </td>
              {weighed && (
                <td className="n">
                  {one.weight ? `+${((one.weight ?? 0) * 100).toFixed(2)} points` : "–"}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {few.length > 0 && (
        <p className="small-text" data-testid="few">
          <span className="soft">fewer than {ENOUGH} visits, too few to tell: </span>
          {few.slice(0, 40).map((one, i) => (
            <span key={one.screen}>
              {i > 0 && " · "}
              {short(shownName(one.screen), 30)} <CountButton own={one.exits} times />
            </span>
          ))}
          {few.length > 40 && ` and ${count(few.length - 40)} more, in the CSV`}
        </p>
      )}
    </>
  );
}

function Exits({ app, found }: { app: string; found: DropOffFigures }) {
  const [figure, choose] = useFigure();
  const worst = telling(found).slice(0, DRAWN);
  return (
    <Picture
      name={`${app}-drop-offs`}
      title="Found against expected, by how far beyond chance"
      rows={() => table(found)}
    >
      <ExitBars screens={worst} chosen={figure} onChoose={choose} />
    </Picture>
  );
}

/** Screens with exits, and with enough visits to tell; all of them where none has. */
function telling(found: DropOffFigures): DropOffFigures["screens"] {
  const left = found.screens.filter((one) => one.exits.times);
  const enough = left.filter((one) => one.visits.times >= ENOUGH);
  return enough.length ? enough : left;
}

const KINDS = { steps: "by steps", time: "by time" };

/** How many journeys are still going after so many steps, or so long. */
function Survivors({ app, found }: { app: string; found: DropOffFigures }) {
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const kind = address.get("going") === "time" ? "time" : "steps";
  const marks = kind === "time" ? found.by_time : found.by_steps;
  const all = marks[0]?.journeys ?? 0;
  const words = (mark: number) =>
    kind === "steps"
      ? count(mark, "step")
      : mark < 60
        ? `${mark} s`
        : mark < 3600
          ? `${mark / 60} min`
          : `${mark / 3600} h`;
  if (!all) {
    return null;
  }
  return (
    <Picture
      name={`${app}-still-going`}
      title="Still going"
      choices={
        <Choice
          label="Still going by"
          choices={KINDS}
          chosen={kind}
          onChoose={(chosen) => change({ going: chosen === "steps" ? null : chosen })}
        />
      }
      rows={() => [
        [kind === "time" ? "seconds" : "steps", "journeys", "share"],
        ...marks.map((one) => [one.mark, one.journeys, one.journeys / all]),
      ]}
    >
      <Survival
        marks={marks}
        words={words}
        written={(mark) => (kind === "time" ? WRITTEN : [1, 10, 20, 30, 40]).includes(mark)}
        chosen={figure}
        onChoose={choose}
      />
    </Picture>
  );
}

const WRITTEN = [1, 10, 60, 600, 3600, 18_000];
/** Screens in the drawing, the table has more; and visits without which it may be chance. */
const DRAWN = 10;
const ENOUGH = 30;
