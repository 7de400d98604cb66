import type { AppSummary, TabFigures } from "../../api/client";
import { useTabs } from "../../api/queries";
import { count, duration, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { CountButton } from "../../shell/CountButton";
import { MeasureView } from "../../shell/MeasureView";
import { ShareCell } from "../../shell/ShareCell";
import { TakeTable } from "../../shell/TakeAway";

/** How each tab is used, and the ways between them. */
export function TabsView({ app }: { app: AppSummary }) {
  const answer = useTabs(app.key, useScope());
  return (
    <MeasureView
      app={app}
      measure="tabs"
      answer={answer}
      purpose="this page shows how each tab is used"
      counted="of them"
    >
      {(found) => (
        <>
          <h1>{sentence(found)}</h1>
          {found.tabs.length > 0 && (
            <>
              <TakeTable name={`${app.key}-tabs`} rows={() => table(found)} />
              <Use found={found} />
              <Matrix found={found} />
            </>
          )}
        </>
      )}
    </MeasureView>
  );
}

function sentence(found: TabFigures): string {
  const [most] = [...found.tabs].sort((a, b) => b.used.count - a.used.count);
  if (!most) {
    return "The map names no tab: draft one under App map.";
  }
  const odd = [...found.tabs].sort((a, b) => b.mismatch.times - a.mismatch.times)[0];
  const wrong = odd?.mismatch.times
    ? ` In ${odd.name} the app reported another tab ${count(odd.mismatch.times, "time")}.`
    : "";
  const share = percent(most.used.count / most.used.of || 0);
  const flips = found.flips.reduce((sum, way) => sum + way.count.times, 0);
  const flipped = flips ? ` ${count(flips, "quick flip")} between tabs.` : "";
  return `${most.name} is used in ${share} of ${count(most.used.of, "session")}.${wrong}${flipped}`;
}

function table(found: TabFigures): (string | number | null)[][] {
  return [
    [
      "tab",
      "visits",
      "users",
      "sessions",
      "of",
      "first",
      "resumed",
      "at root",
      "again",
      "mismatch",
    ],
    ...found.tabs.map((tab) => [
      tab.name,
      tab.visits.times,
      tab.users,
      tab.used.count,
      tab.used.of,
      tab.first.times,
      tab.resumed.times,
      tab.root.times,
      tab.again.times,
      tab.mismatch.times,
    ]),
  ];
}

function Use({ found }: { found: TabFigures }) {
  const longest = Math.max(...found.tabs.map((tab) => tab.dwell?.third ?? 0), 1);
  return (
    <table className="table table-sm plain" data-testid="tabs">
      <thead>
        <tr>
          <th>tab</th>
          <th>of sessions that see it</th>
          <th className="n">visits</th>
          <th className="n">users</th>
          <th>stay, half within</th>
          <th className="n">began</th>
          <th className="n">resumed</th>
          <th className="n">at its root</th>
          <th className="n">chosen again</th>
          <th className="n">back to a tab</th>
          <th className="n">mismatch</th>
        </tr>
      </thead>
      <tbody>
        {found.tabs.map((tab) => (
          <tr key={tab.name}>
            <td className="clip" style={{ maxWidth: "10rem" }}>
              {tab.name}
            </td>
            <td>
              <ShareCell share={tab.used} most={1} />
            </td>
            <td className="n">
              <CountButton own={tab.visits} />
            </td>
            <td className="n">{count(tab.users)}</td>
            <td>
              {tab.dwell && (
                <span
                  className="d-inline-flex gap-2 align-items-center"
                  title={`half stay ${duration(tab.dwell.first)} to ${duration(tab.dwell.third)}`}
                >
                  <svg width={92} height={14} aria-hidden="true">
                    <rect
                      x={(tab.dwell.first / longest) * 90}
                      width={Math.max(((tab.dwell.third - tab.dwell.first) / longest) * 90, 1)}
                      y={3}
                      height={8}
                      fill="var(--ochre)"
                      opacity={0.5}
                    />
                    <line
                      x1={(tab.dwell.median / longest) * 90}
                      x2={(tab.dwell.median / longest) * 90}
                      y1={1}
                      y2={13}
                      stroke="var(--ochre)"
                      strokeWidth={2}
                    />
                  </svg>
                  {duration(tab.dwell.median)}
                </span>
              )}
            </td>
            {[tab.first, tab.resumed, tab.root, tab.again, tab.root_back, tab.mismatch].map(
              (own) => (
                <td key={own.figure} className="n">
                  <CountButton own={own} />
                </td>
              ),
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Switches from the tab of the line to that of the column. */
function Matrix({ found }: { found: TabFigures }) {
  const names = found.tabs.map((tab) => tab.name);
  const most = Math.max(...found.switches.map((way) => way.count.times), 1);
  const of = (kind: "switches" | "flips", one: string, other: string) =>
    found[kind].find((way) => way.start === one && way.end === other)?.count;
  return (
    <div className="d-flex flex-wrap column-gap-5">
      {(["switches", "flips"] as const).map((kind) => (
        <section key={kind} className="mt-2">
          <h2>
            {kind === "switches" ? "From tab to tab" : "There and back in under 10 s, between two"}
          </h2>
          <table className="table table-sm plain" data-testid={kind}>
            <thead>
              <tr>
                <th />
                {names.map((name) => (
                  <th key={name} className="n">
                    {name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {names.map((one) => (
                <tr key={one}>
                  <th>{one}</th>
                  {names.map((other) => {
                    const own = of(kind, one, other);
                    const strong = (own?.times ?? 0) / most;
                    return (
                      <td
                        key={other}
                        className="n"
                        style={{
                          background: `color-mix(in srgb, var(--ochre) ${Math.round(strong * 45)}%, transparent)`,
                        }}
                      >
                        {own && <CountButton own={own} />}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      ))}
    </div>
  );
}
