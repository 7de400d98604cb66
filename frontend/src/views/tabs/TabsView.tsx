import type { AppSummary, TabFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { TabMatrix } from "../../charts/TabMatrix";
import { count, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { useCounted } from "../../scope/useCounted";
import { useFigure } from "../../scope/useFigure";
import { CountButton } from "../../shell/CountButton";
import { useGroups } from "../../shell/GroupChoice";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { ShareCell } from "../../shell/ShareCell";

/** How each tab is used, and the ways between them. */
export function TabsView({ app }: { app: AppSummary }) {
  const answer = useMeasure(app.key, "tabs", useScope(), { groups: useGroups() });
  return (
    <MeasureView
      app={app}
      measure="tabs"
      answer={answer}
      sentence={sentence}
      purpose="this page shows how each tab is used"
      counted="of them"
      columns={(whole) =>
        whole.tabs.map(({ name }) => ({
          title: name,
          share: (found) => found.tabs.find((tab) => tab.name === name)?.used,
          path: `tabs/${name}/used`,
          figure: (found) => found.tabs.find((tab) => tab.name === name)?.visits.figure,
        }))
      }
    >
      {(found) => (
        <>
          {found.tabs.length > 0 && (
            <>
              <Use found={found} />
              <Ways app={app.key} found={found} />
              <Filters found={found} />
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
      "median stay ms",
      ...found.tabs.map((tab) => `to ${tab.name}`),
    ],
    ...found.tabs.map((tab) => [
      tab.name,
      tab.visits.times,
      tab.visits.users,
      tab.used.count,
      tab.used.of,
      tab.first.times,
      tab.resumed.times,
      tab.root.times,
      tab.again.times,
      tab.mismatch.times,
      tab.dwell?.median ?? null,
      ...found.tabs.map(
        (other) =>
          found.switches.find((way) => way.start === tab.name && way.end === other.name)?.count
            .times ?? 0,
      ),
    ]),
  ];
}

function Use({ found }: { found: TabFigures }) {
  return (
    <table className="table table-sm plain" data-testid="tabs">
      <thead>
        <tr>
          <th>tab</th>
          <th>of sessions that see it</th>
          <th className="n">visits</th>
          <th className="n">users</th>
          <th className="n">began</th>
          <th className="n">resumed</th>
          <th className="n">at its root</th>
          <th className="n">chosen again</th>
          <th className="n">back to a tab</th>
          <th className="n">mismatch</th>
          <th className="n" title="the deepest stack of a visit, the middle one">
            depth
          </th>
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
            <td className="n">{count(tab.visits.users)}</td>
            {[tab.first, tab.resumed, tab.root, tab.again, tab.root_back, tab.mismatch].map(
              (own) => (
                <td key={own.figure} className="n">
                  <CountButton own={own} />
                </td>
              ),
            )}
            <td className="n">{tab.deepest?.median ?? "–"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Ways({ app, found }: { app: string; found: TabFigures }) {
  const [figure, choose] = useFigure();
  const counted = useCounted();
  return (
    <Picture
      name={`${app}-tabs`}
      title="From tab to tab, and how long they are used"
      rows={() => table(found)}
    >
      <TabMatrix found={found} counted={counted} chosen={figure} onChoose={choose} />
      {found.flips.length > 0 && (
        <p className="small-text" data-testid="flips">
          <span className="soft">there and back in under 10 s: </span>
          {found.flips.slice(0, 6).map((way, i) => (
            <span key={way.count.figure}>
              {i > 0 && " · "}
              {way.start} and {way.end} <CountButton own={way.count} />
            </span>
          ))}
        </p>
      )}
    </Picture>
  );
}

/** What looks like a tab, and only switches what its screen shows. */
function Filters({ found }: { found: TabFigures }) {
  if (!found.filters.length) {
    return null;
  }
  return (
    <section>
      <h2>Filters: not places, but choices within a screen</h2>
      <table className="table table-sm plain" data-testid="filters">
        <thead>
          <tr>
            <th>filter</th>
            <th>on</th>
            <th className="n">visits of that screen</th>
            <th className="n">chosen</th>
            <th className="n">for each visit</th>
            <th className="n">journeys</th>
            <th className="n">users</th>
          </tr>
        </thead>
        <tbody>
          {found.filters.map((one) => (
            <tr key={one.name}>
              <td className="clip" style={{ maxWidth: "14rem" }} title={one.name}>
                {one.name}
              </td>
              <td>{one.on}</td>
              <td className="n">
                <CountButton own={one.visits} />
              </td>
              <td className="n">
                <CountButton own={one.used} />
              </td>
              <td className="n">
                {one.visits.times ? (one.used.times / one.visits.times).toFixed(2) : "–"}
              </td>
              <td className="n">{count(one.used.journeys)}</td>
              <td className="n">{count(one.used.users)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
