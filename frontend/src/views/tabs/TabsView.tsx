import type { AppSummary, TabFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { TabMatrix } from "../../charts/TabMatrix";
import { count, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { useCounted } from "../../scope/useCounted";
import { useFigure } from "../../scope/useFigure";
import { CountButton } from "../../shell/CountButton";
import { bar, type Column, middle, name, number, text, times } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { useGroups } from "../../shell/GroupChoice";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";

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
              <DataTable
                columns={table(found)}
                rows={found.tabs}
                id={(tab) => tab.name}
                testid="tabs"
              />
              <Ways app={app.key} found={found} />
              {found.filters.length > 0 && (
                <DataTable
                  name={`${app.key}-filters`}
                  title="Filters: not places, but choices within a screen"
                  columns={FILTER_COLUMNS}
                  rows={found.filters}
                  id={(one) => one.name}
                  testid="filters"
                />
              )}
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

type Tab = TabFigures["tabs"][number];

function table(found: TabFigures): Column<Tab>[] {
  return [
    name("tab", (tab) => tab.name, "10rem"),
    bar("of sessions that see it", (tab) => tab.used, 1),
    { ...number("sessions", (tab) => tab.used.count), fileOnly: true },
    { ...number("sessions that see it", (tab) => tab.used.of), fileOnly: true },
    times("visits", (tab) => tab.visits),
    number("users", (tab) => tab.visits.users),
    times("began", (tab) => tab.first),
    times("resumed", (tab) => tab.resumed),
    times("at its root", (tab) => tab.root),
    times("chosen again", (tab) => tab.again),
    times("back to a tab", (tab) => tab.root_back),
    times("mismatch", (tab) => tab.mismatch),
    {
      ...number("depth", (tab) => tab.deepest?.median),
      about: "the deepest stack of a visit, the middle one",
    },
    { ...middle("middle stay", (tab) => tab.dwell), fileOnly: true },
    ...found.tabs.map((other) => ({
      ...number<Tab>(`to ${other.name}`, (tab) => switches(found, tab.name, other.name)),
      fileOnly: true,
    })),
  ];
}

function switches(found: TabFigures, start: string, end: string): number {
  const own = found.switches.find((way) => way.start === start && way.end === end);
  return own?.count.times ?? 0;
}

function Ways({ app, found }: { app: string; found: TabFigures }) {
  const [figure, choose] = useFigure();
  const counted = useCounted();
  return (
    <Picture
      name={`${app}-tabs`}
      title="From tab to tab, and how long they are used"
      table={{ columns: table(found), rows: found.tabs, id: (tab) => tab.name }}
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
const FILTER_COLUMNS: Column<TabFigures["filters"][number]>[] = [
  name("filter", (one) => one.name, "14rem"),
  text("on", (one) => one.on),
  times("visits of that screen", (one) => one.visits),
  times("chosen", (one) => one.used),
  {
    title: "for each visit",
    value: (one) => (one.visits.times ? one.used.times / one.visits.times : null),
    cell: (one) => (one.visits.times ? (one.used.times / one.visits.times).toFixed(2) : "–"),
    numeric: true,
  },
  number("journeys", (one) => one.used.journeys),
  number("users", (one) => one.used.users),
];
