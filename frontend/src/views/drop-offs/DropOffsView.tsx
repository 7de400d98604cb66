import type { AppSummary, Count, DropOffFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { ExitBars } from "../../charts/ExitBars";
import { Survival } from "../../charts/Survival";
import { count, EXIT_WORDS, percent, short, shownName } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { CountButton } from "../../shell/CountButton";
import { type Column, name, number, opens, share } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
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
          {found.goal_chance !== null && goal && (
            <p className="small-text mb-1">
              {percent(found.goal_chance)} of journeys reach {goal}, by the ways that are walked;
              the last column says how much more would if a screen lost no one.
            </p>
          )}
          <DataTable
            title="Screens that are left"
            choices={<GoalChoice app={app.key} none="weigh by a goal …" />}
            columns={table(found)}
            rows={telling(found)}
            id={(one) => one.screen}
            testid="drop-offs"
          />
          <Few found={found} />
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

type Screen = DropOffFigures["screens"][number];

function table(found: DropOffFigures): Column<Screen>[] {
  const weight: Column<Screen> = {
    title: "weight",
    value: (one) => one.weight,
    cell: (one) => (one.weight ? `+${(one.weight * 100).toFixed(2)} points` : "–"),
    numeric: true,
    inFile: `weight for ${found.goal}`,
  };
  return [
    name("screen", (one) => one.screen, "12rem"),
    { ...number("visits", (one) => one.visits.times), fileOnly: true },
    exits("exits", (one) => one.exits),
    share("of visits", (one) => one.rate),
    share("of all", (one) => ({ count: one.exits.times, of: found.ended })),
    exits("true exits", (one) => one.true),
    { ...number("expected", (one) => one.expected), fileOnly: true },
    {
      title: "excess",
      value: (one) => one.excess,
      cell: (one) => excess(one.excess),
      numeric: true,
      about: "true exits beyond those to be expected",
    },
    several("what came last", (one) => [
      ...Object.entries(one.why).flatMap(([why, own]) =>
        why === "quiet" ? [] : [{ said: WHY[why] ?? why, own }],
      ),
      ...Object.entries(one.before)
        .slice(0, 2)
        .map(([screen, own]) => ({ said: `from ${screen}`, own })),
    ]),
    several("how it ended", (one) =>
      Object.entries(one.kinds).flatMap(([kind, own]) =>
        own.times ? [{ said: EXIT_WORDS[kind] ?? kind, own }] : [],
      ),
    ),
    ...(found.screens.some((one) => one.weight !== null) ? [weight] : []),
  ];
}

/** Exits are counted in any case: a share of visits says little of users. */
function exits(title: string, of: (one: Screen) => Count): Column<Screen> {
  const cell = (one: Screen) => <CountButton own={of(one)} times />;
  return { title, value: (one) => of(one).times, cell, numeric: true };
}

function excess(more: number) {
  const sign = Math.abs(more) < 0.5 ? "±" : more > 0 ? "+" : "−";
  return (
    <span className={more > 0 ? "" : "soft"}>
      {sign}
      {count(Math.round(Math.abs(more)))}
    </span>
  );
}

function several(
  title: string,
  of: (one: Screen) => { said: string; own: Count }[],
): Column<Screen> {
  return {
    title,
    value: (one) =>
      of(one)
        .map(({ said, own }) => `${said} ${own.times}`)
        .join(", "),
    cell: (one) => (
      <span className="small-text">
        {of(one).map(({ said, own }, i) => (
          <span key={own.figure}>
            {i > 0 && " · "}
            {said} <CountButton own={own} times />
          </span>
        ))}
      </span>
    ),
  };
}

/** Screens with too few visits to tell, which the table leaves to its file. */
function Few({ found }: { found: DropOffFigures }) {
  const shown = telling(found);
  const few = found.screens.filter((one) => one.exits.times && !shown.includes(one));
  if (!few.length) {
    return null;
  }
  return (
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
  );
}

function Exits({ app, found }: { app: string; found: DropOffFigures }) {
  const [figure, choose] = useFigure();
  const worst = telling(found).slice(0, DRAWN);
  return (
    <Picture
      name={`${app}-drop-offs`}
      title="Found against expected, by how far beyond chance"
      table={{ columns: table(found), rows: found.screens, id: (one) => one.screen }}
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

type Mark = DropOffFigures["by_time"][number];

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
      table={{
        columns: [
          number<Mark>(kind === "time" ? "seconds" : "steps", (one) => one.mark),
          opens<Mark>("journeys", (one) => ({ figure: one.figure, n: one.journeys })),
          share<Mark>("share", (one) => ({ count: one.journeys, of: all })),
        ],
        rows: marks,
        id: (one) => String(one.mark),
      }}
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
