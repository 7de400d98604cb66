import { Link } from "react-router";
import type { AppSummary, LoopFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { LoopRings } from "../../charts/LoopRings";
import { count, duration, percent, short, shownName } from "../../format";
import { scopeSearch, useAddress, useScope } from "../../scope/scope";
import { useCounted } from "../../scope/useCounted";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { CountButton } from "../../shell/CountButton";
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
          <Screens found={found} />
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

function table(found: LoopFigures): (string | number | null)[][] {
  return [
    [
      "kind",
      "screens",
      "times",
      "journeys",
      "users",
      "median turns",
      "most turns",
      "median ms",
      "ended with it",
      "went on beyond",
    ],
    ...found.loops.map((loop) => [
      loop.kind,
      loop.screens.join(" > "),
      loop.count.times,
      loop.count.journeys,
      loop.count.users,
      loop.turns?.median ?? null,
      loop.most_turns,
      loop.took?.median ?? null,
      loop.ended.times,
      loop.beyond.times,
    ]),
  ];
}

const SORTS = { times: "most often", turns: "most turns", ended: "ended with it" };
type Sort = keyof typeof SORTS;

function Loops({ app, found }: { app: string; found: LoopFigures }) {
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const counted = useCounted();
  const kind = address.get("kind") ?? "";
  const asked = address.get("first") ?? "";
  const sort: Sort = asked in SORTS ? (asked as Sort) : "times";
  const by = (loop: LoopFigures["loops"][number]) =>
    ({ times: loop.count.times, turns: loop.most_turns, ended: loop.ended.times })[sort];
  const shown = found.loops
    .filter((loop) => !kind || loop.kind === kind)
    .sort((a, b) => by(b) - by(a));
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
        choices={
          <Choice
            label="First those"
            choices={SORTS}
            chosen={sort}
            onChoose={(chosen) => change({ first: chosen === "times" ? null : chosen })}
          />
        }
        rows={() => table(found)}
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
      <LoopTable loops={shown.slice(0, TOLD)} />
      {shown.length > TOLD && (
        <p className="soft small-text">
          {count(shown.length - TOLD, "rarer loop")} not shown; the first {count(shown.length)} are
          in the CSV.
        </p>
      )}
      {found.loops_left_out > 0 && (
        <p className="soft small-text">
          {count(found.loops_left_out, "loop")} walked still less often are counted by kind alone.
        </p>
      )}
    </>
  );
}

/** Rings in the drawing, and lines in the table. */
const DRAWN = 6;
const TOLD = 40;

function LoopTable({ loops }: { loops: LoopFigures["loops"] }) {
  const { unit } = useScope();
  return (
    <table className="table table-sm plain loops" data-testid="loops">
      <thead>
        <tr>
          <th>loop</th>
          <th>kind</th>
          <th className="n">{unit === "users" ? "users" : "times"}</th>
          <th className="n">journeys</th>
          <th className="n">users</th>
          <th className="n">turns, middle and most</th>
          <th className="n">middle time</th>
          <th className="n">ended with it</th>
          <th className="n">went on beyond</th>
        </tr>
      </thead>
      <tbody>
        {loops.map((loop) => (
          <tr key={loop.count.figure}>
            <td className="clip" style={{ maxWidth: "26rem" }} title={loop.screens.join(" → ")}>
              {round(loop.screens)}
            </td>
            <td className="text-nowrap" title={LOOP_MEANINGS[loop.kind]}>
              {LOOP_KINDS[loop.kind]}
            </td>
            <td className="n">
              <CountButton own={loop.count} />
            </td>
            <td className="n">{count(loop.count.journeys)}</td>
            <td className="n">{count(loop.count.users)}</td>
            <td className="n">
              {loop.turns?.median} <span className="soft">· {count(loop.most_turns)}</span>
            </td>
            <td className="n">{loop.took && duration(loop.took.median)}</td>
            <td className="n">
              <CountButton own={loop.ended} />
            </td>
            <td className="n">
              <CountButton own={loop.beyond} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Screens({ found }: { found: LoopFigures }) {
  const [address] = useAddress();
  const odd = [...found.screens]
    .filter((one) => one.backs.times || one.dead_end.times || one.stuck.times || one.piled.times)
    .sort(
      (a, b) =>
        b.dead_end.times - a.dead_end.times ||
        b.piled.times - a.piled.times ||
        b.mistake.times - a.mistake.times,
    )
    .slice(0, 25);
  if (!odd.length) {
    return null;
  }
  return (
    <section className="mt-2">
      <h2>
        Screens: {percent(found.backs.count / found.backs.of || 0)} of visits end by going back; the{" "}
        <Link to={{ pathname: "/journeys", search: scopeSearch(address, { sort: "deepest" }) }}>
          deepest stack
        </Link>{" "}
        has {count(found.most_deep, "entry", "entries")}
      </h2>
      <table className="table table-sm plain" data-testid="screens">
        <thead>
          <tr>
            <th>screen</th>
            <th className="n">visits</th>
            <th className="n">left by back</th>
            <th className="n">of that in under 3 s</th>
            <th className="n">piled up anew</th>
            <th className="n">stuck</th>
            <th className="n">no way out</th>
          </tr>
        </thead>
        <tbody>
          {odd.map((one) => (
            <tr key={one.name}>
              <td className="clip" style={{ maxWidth: "16rem" }} title={one.name}>
                {shownName(one.name)}
              </td>
              <td className="n">
                <CountButton own={one.visits} />
              </td>
              <td className="n">
                <CountButton own={one.backs} />{" "}
                <span className="soft small-text">
                  {percent(one.back_share.count / one.back_share.of || 0)}
                </span>
              </td>
              {[one.mistake, one.piled, one.stuck, one.dead_end].map((own) => (
                <td key={own.figure} className="n">
                  <CountButton own={own} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
