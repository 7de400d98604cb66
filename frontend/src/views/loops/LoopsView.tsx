import { Link } from "react-router";
import type { AppSummary, LoopFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { LoopRings } from "../../charts/LoopRings";
import { count, percent, short, shownName } from "../../format";
import { scopeSearch, useAddress, useScope } from "../../scope/scope";
import { useCounted } from "../../scope/useCounted";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { type Column, middle, name, number, share, times } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { useGroups } from "../../shell/GroupChoice";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { LOOP_KINDS, LOOP_MEANINGS } from "../inside";

/** Going back and forth: loops by kind, screens opened by mistake, and screens with no way out. */
export function LoopsView({ app }: { app: AppSummary }) {
  const answer = useMeasure(app.key, "loops", useScope(), { groups: useGroups() });
  return (
    <MeasureView
      app={app}
      measure="loops"
      answer={answer}
      sentence={sentence}
      purpose="this page shows where people go round in loops"
      counted="of them"
      columns={() => [
        {
          title: "visits left by going back",
          share: (found) => found.backs,
          path: "backs",
          figure: (found) => found.went_back.figure,
        },
        ...Object.entries(LOOP_KINDS).map(([kind, title]) => ({
          title,
          count: (found: LoopFigures) => found.kinds[kind]?.times,
          figure: (found: LoopFigures) => found.kinds[kind]?.figure,
        })),
      ]}
    >
      {(found) => (
        <>
          {found.loops.length > 0 && <Loops app={app.key} found={found} />}
          <Screens app={app.key} found={found} />
        </>
      )}
    </MeasureView>
  );
}

function round(screens: string[]): string {
  return [...screens, screens[0]].map((one) => short(shownName(one ?? ""), 24)).join(" → ");
}

function sentence(found: LoopFigures): string {
  const [most] = found.loops;
  const ends = found.screens.filter((screen) => screen.dead_end.times);
  const dead = ends.length
    ? ` ${count(
        ends.reduce((sum, one) => sum + one.dead_end.times, 0),
        "journey",
      )} end on ${ends
        .slice(0, 2)
        .map((one) => one.name)
        .join(" and ")}, with no way out.`
    : "";
  if (!most) {
    return `No loop is in scope; ${percent(found.backs.count / found.backs.of || 0)} of visits end by going back.${dead}`;
  }
  const [sent] = found.loops
    .filter((loop) => loop.kind === "redirect_loop")
    .sort((a, b) => b.ended.times - a.ended.times);
  const sentRound = sent
    ? ` Redirects send ${count(sent.count.users, "user")} round ${round(sent.screens)}, ${count(sent.ended.times)} times for good.`
    : "";
  return `The most walked loop is ${round(most.screens)}: ${count(most.count.times, "time")} in ${count(most.count.journeys, "journey")}.${sentRound}${dead}`;
}

type Loop = LoopFigures["loops"][number];

const LOOP_COLUMNS: Column<Loop>[] = [
  {
    title: "loop",
    value: (loop) => loop.screens.join(" → "),
    cell: (loop) => round(loop.screens),
    width: "26rem",
  },
  {
    title: "kind",
    value: (loop) => LOOP_KINDS[loop.kind],
    cell: (loop) => (
      <span className="text-nowrap" title={LOOP_MEANINGS[loop.kind]}>
        {LOOP_KINDS[loop.kind]}
      </span>
    ),
  },
  times("times", (loop) => loop.count),
  number("journeys", (loop) => loop.count.journeys),
  number("users", (loop) => loop.count.users),
  { ...number("middle turns", (loop) => loop.turns?.median), about: "turns of half or more" },
  number("most turns", (loop) => loop.most_turns),
  middle("middle time", (loop) => loop.took),
  times("ended with it", (loop) => loop.ended),
  times("went on beyond", (loop) => loop.beyond),
];

function Loops({ app, found }: { app: string; found: LoopFigures }) {
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const counted = useCounted();
  const kind = address.get("kind") ?? "";
  const shown = found.loops.filter((loop) => !kind || loop.kind === kind);
  const kinds = Object.entries(found.kinds).filter(([, n]) => n.times > 0);
  return (
    <>
      <div className="d-flex flex-wrap column-gap-4 mb-1">
        <Choice
          label="Kinds of loops"
          choices={{
            "": "all kinds",
            ...Object.fromEntries(
              kinds.map(([one, n]) => [one, `${LOOP_KINDS[one]} ${count(n.times)}`]),
            ),
          }}
          chosen={kind}
          onChoose={(chosen) => change({ kind: chosen || null, figure: null })}
        />
      </div>
      <Picture
        name={`${app}-loops`}
        title="Loops"
        table={{
          columns: LOOP_COLUMNS,
          rows: shown,
          id: (loop) => loop.count.figure,
          testid: "loops",
        }}
        below
      >
        <p className="soft small-text mb-1">
          {kinds.map(([one], i) => (
            <span key={one}>
              {i > 0 && " · "}
              <span className="fw-semibold">{LOOP_KINDS[one]}</span>: {LOOP_MEANINGS[one]}
            </span>
          ))}
        </p>
        <LoopRings
          loops={shown.slice(0, DRAWN)}
          kinds={LOOP_KINDS}
          counted={counted}
          chosen={figure}
          onChoose={choose}
        />
      </Picture>
      {found.loops_left_out > 0 && (
        <p className="soft small-text">
          {count(found.loops_left_out, "loop")} walked still less often are counted by kind alone.
        </p>
      )}
    </>
  );
}

/** Rings in the drawing; the table has all. */
const DRAWN = 6;

type Screen = LoopFigures["screens"][number];

const SCREEN_COLUMNS: Column<Screen>[] = [
  name("screen", (one) => one.name),
  times("visits", (one) => one.visits),
  times("left by back", (one) => one.backs),
  share("of visits", (one) => one.back_share),
  times("of that in under 3 s", (one) => one.mistake),
  times("piled up anew", (one) => one.piled),
  times("stuck", (one) => one.stuck),
  times("no way out", (one) => one.dead_end),
];

function Screens({ app, found }: { app: string; found: LoopFigures }) {
  const [address] = useAddress();
  const odd = [...found.screens]
    .filter((one) => one.backs.times || one.dead_end.times || one.stuck.times || one.piled.times)
    .sort(
      (a, b) =>
        b.dead_end.times - a.dead_end.times ||
        b.piled.times - a.piled.times ||
        b.mistake.times - a.mistake.times,
    );
  if (!odd.length) {
    return null;
  }
  return (
    <section className="mt-2">
      <DataTable
        name={`${app}-screens`}
        title={
          <>
            Screens: {percent(found.backs.count / found.backs.of || 0)} of visits end by going back;
            the{" "}
            <Link to={{ pathname: "/journeys", search: scopeSearch(address, { sort: "deepest" }) }}>
              deepest stack
            </Link>{" "}
            has {count(found.most_deep, "entry", "entries")}
          </>
        }
        columns={SCREEN_COLUMNS}
        rows={odd}
        id={(one) => one.name}
        testid="screens"
        first={25}
      />
    </section>
  );
}
