import { Form } from "react-bootstrap";
import type { AppSummary, DropOffFigures } from "../../api/client";
import { useDropOffs } from "../../api/queries";
import { count, EXIT_WORDS, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { CountButton } from "../../shell/CountButton";
import { MeasureView } from "../../shell/MeasureView";
import { TakeTable } from "../../shell/TakeAway";
import { WHY } from "../inside";

/** Where journeys end, beyond what is to be expected of where those screens stand. */
export function DropOffsView({ app }: { app: AppSummary }) {
  const [address, change] = useAddress();
  const goal = address.get("goal") ?? "";
  const answer = useDropOffs(app.key, useScope(), goal);
  return (
    <MeasureView
      app={app}
      measure="drop-offs"
      answer={answer}
      purpose="this page shows on which screens journeys end"
      counted={undefined}
    >
      {(found) => (
        <>
          <h1>{sentence(found)}</h1>
          <p className="soft small-text mb-2">
            Expected is how many exits a screen would have if only its depth, how far into the
            journey it comes, and how that began told who leaves: so a natural end does not top the
            list. Ends after which the user comes back to the same screen within a day are pauses,
            and no exits here; journeys that the log's end cut off are left out.
          </p>
          <div className="d-flex flex-wrap gap-3 align-items-baseline mb-1">
            <Form.Select
              size="sm"
              className="in-row"
              aria-label="A screen to be reached"
              value={goal}
              onChange={(event) => change({ goal: event.target.value, figure: null })}
            >
              <option value="">weigh by a goal …</option>
              {[...found.screens]
                .sort((a, b) => a.screen.localeCompare(b.screen))
                .map((one) => (
                  <option key={one.screen}>{one.screen}</option>
                ))}
            </Form.Select>
            {found.goal_chance !== null && goal && (
              <span className="small-text">
                {percent(found.goal_chance)} of journeys reach {goal}, by the ways that are walked;
                the last column says how much more would if a screen lost no one.
              </span>
            )}
            <TakeTable name={`${app.key}-drop-offs`} rows={() => table(found)} />
          </div>
          <Screens found={found} />
          <Survivors found={found} />
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
  const shown = found.screens.filter((one) => one.exits.times).slice(0, 40);
  const most = Math.max(...shown.map((one) => Math.max(one.true.times, one.expected)), 1);
  const weighed = shown.some((one) => one.weight !== null);
  return (
    <table className="table table-sm plain" data-testid="drop-offs">
      <thead>
        <tr>
          <th>screen</th>
          <th className="n">exits</th>
          <th className="n">of visits</th>
          <th>found, and expected</th>
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
              {one.screen}
            </td>
            <td className="n">
              <CountButton own={one.exits} />
            </td>
            <td className="n soft">{percent(one.rate.count / one.rate.of || 0)}</td>
            <td>
              <svg width={150} height={16} aria-hidden="true">
                <rect
                  x={0}
                  y={3}
                  height={10}
                  width={(one.true.times / most) * 148}
                  fill={one.excess > 0 ? "var(--rust)" : "var(--stone)"}
                  opacity={0.75}
                />
                <line
                  x1={(one.expected / most) * 148}
                  x2={(one.expected / most) * 148}
                  y1={0}
                  y2={16}
                  stroke="var(--bs-body-color)"
                  strokeWidth={2}
                />
              </svg>
            </td>
            <td className="n">
              <CountButton own={one.true} />
            </td>
            <td className={`n ${one.excess > 0 ? "" : "soft"}`}>
              {one.excess > 0 ? "+" : "−"}
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
                  {said} <CountButton own={own} />
                </span>
              ))}
            </td>
            <td className="small-text">
              {Object.entries(one.kinds)
                .filter(([, own]) => own.times)
                .map(([kind, own], i) => (
                  <span key={kind}>
                    {i > 0 && " · "}
                    {EXIT_WORDS[kind] ?? kind} <CountButton own={own} />
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
  );
}

/** How many journeys are still going after so many steps. */
function Survivors({ found }: { found: DropOffFigures }) {
  const all = found.survivors[0] ?? 0;
  if (!all) {
    return null;
  }
  const wide = 16;
  return (
    <section>
      <h2>Still going after so many steps</h2>
      <svg
        className="chart d-block"
        width={found.survivors.length * wide + 30}
        height={110}
        role="img"
        aria-label="Journeys still going, by steps"
      >
        {found.survivors.map((n, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: one of each number of steps
          <g key={i}>
            <title>{`${i + 1} steps or more: ${count(n)} (${percent(n / all)})`}</title>
            <rect
              x={i * wide}
              y={88 - (n / all) * 86}
              width={wide - 1}
              height={(n / all) * 86}
              fill="var(--moss)"
              opacity={0.8}
            />
            {(i === 0 || (i + 1) % 10 === 0) && (
              <text x={i * wide + wide / 2} y={104} fontSize={12} textAnchor="middle">
                {i + 1}
              </text>
            )}
          </g>
        ))}
      </svg>
    </section>
  );
}
