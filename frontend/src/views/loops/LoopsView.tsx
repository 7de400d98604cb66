import type { AppSummary, LoopFigures } from "../../api/client";
import { useLoops } from "../../api/queries";
import { count, duration, percent, short } from "../../format";
import { useScope } from "../../scope/scope";
import { CountButton } from "../../shell/CountButton";
import { MeasureView } from "../../shell/MeasureView";
import { TakeTable } from "../../shell/TakeAway";
import { LOOP_KINDS } from "../inside";

/** Going back and forth: loops by kind, screens opened by mistake, and screens with no way out. */
export function LoopsView({ app }: { app: AppSummary }) {
  const answer = useLoops(app.key, useScope());
  return (
    <MeasureView
      app={app}
      measure="loops"
      answer={answer}
      purpose="this page shows where people go round in loops"
      counted="of them"
    >
      {(found) => (
        <>
          <h1>{sentence(found)}</h1>
          <TakeTable name={`${app.key}-loops`} rows={() => table(found)} />
          {found.loops.length > 0 && <Loops found={found} />}
          <Screens found={found} />
        </>
      )}
    </MeasureView>
  );
}

function round(screens: string[]): string {
  return [...screens, screens[0]].map((one) => short(one ?? "", 24)).join(" → ");
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
  return `The most walked loop is ${round(most.screens)}: ${count(most.count.times, "time")} in ${count(most.count.journeys, "journey")}.${dead}`;
}

function table(found: LoopFigures): (string | number | null)[][] {
  return [
    ["kind", "screens", "times", "journeys", "users", "median turns", "most turns", "median ms"],
    ...found.loops.map((loop) => [
      loop.kind,
      loop.screens.join(" > "),
      loop.count.times,
      loop.count.journeys,
      loop.users,
      loop.turns?.median ?? null,
      loop.most_turns,
      loop.took?.median ?? null,
    ]),
  ];
}

const COLOURS: Record<string, string> = {
  ping_pong: "var(--tarn)",
  detour: "var(--tarn)",
  piled_up: "var(--moss)",
  tab_flip: "var(--ochre)",
  redirect_loop: "var(--rust)",
};

/** A ring with a knot for each screen; dashed where the way is back, so that it is not colour alone. */
function Ring({ loop }: { loop: LoopFigures["loops"][number] }) {
  const n = loop.screens.length;
  const radius = 10;
  const at = (i: number) => {
    const angle = (i / n) * 2 * Math.PI - Math.PI / 2;
    return [14 + radius * Math.cos(angle), 14 + radius * Math.sin(angle)] as const;
  };
  const back = loop.kind === "ping_pong" || loop.kind === "detour";
  return (
    <svg width={28} height={28} aria-hidden="true">
      <circle
        cx={14}
        cy={14}
        r={radius}
        fill="none"
        stroke={COLOURS[loop.kind]}
        strokeWidth={Math.min(1.5 + Math.log2(loop.turns?.median ?? 1), 4)}
        strokeDasharray={back ? "4 2" : undefined}
      />
      {loop.screens.map((screen, i) => {
        const [x, y] = at(i);
        return <circle key={screen} cx={x} cy={y} r={2.6} fill="var(--bs-body-color)" />;
      })}
    </svg>
  );
}

function Loops({ found }: { found: LoopFigures }) {
  return (
    <>
      <table className="table table-sm plain loops" data-testid="loops">
        <thead>
          <tr>
            <th />
            <th>loop</th>
            <th>kind</th>
            <th className="n">times</th>
            <th className="n">journeys</th>
            <th className="n">users</th>
            <th className="n">turns, middle and most</th>
            <th className="n">middle time</th>
            <th className="n">ended with it</th>
          </tr>
        </thead>
        <tbody>
          {found.loops.slice(0, 40).map((loop) => (
            <tr key={loop.count.figure}>
              <td>
                <Ring loop={loop} />
              </td>
              <td className="clip" style={{ maxWidth: "26rem" }} title={loop.screens.join(" → ")}>
                {round(loop.screens)}
              </td>
              <td>{LOOP_KINDS[loop.kind]}</td>
              <td className="n">
                <CountButton own={loop.count} />
              </td>
              <td className="n">{count(loop.count.journeys)}</td>
              <td className="n">{count(loop.users)}</td>
              <td className="n">
                {loop.turns?.median} <span className="soft">· {count(loop.most_turns)}</span>
              </td>
              <td className="n">{loop.took && duration(loop.took.median)}</td>
              <td className="n">
                <CountButton own={loop.ended} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.loops.length + found.loops_left_out > 40 && (
        <p className="soft small-text">
          {count(found.loops.length + found.loops_left_out - 40, "rarer loop")} not shown; the first{" "}
          {count(found.loops.length)} are in the CSV.
        </p>
      )}
    </>
  );
}

function Screens({ found }: { found: LoopFigures }) {
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
        Screens: {percent(found.backs.count / found.backs.of || 0)} of visits end by going back; the
        deepest stack has {count(found.most_deep, "entry", "entries")}
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
                {one.name}
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
