import { Link } from "react-router";
import type { AppSummary } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { PathFlow } from "../../charts/PathFlow";
import { count, isolated, percent, short, shownName } from "../../format";
import { scopeSearch, useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { bar, type Column, interval, opens } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { OpenFigure } from "../../shell/FigureButton";
import { useGroups } from "../../shell/GroupChoice";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { specOfScreens } from "../funnels/spec";
import { patternOfWay } from "../patterns/proposals";
import {
  type Asked,
  asAddress,
  askedOf,
  nodeWords,
  type PathFigures,
  type PathNode,
  placeOf,
  placeWords,
  readAsked,
  readFigure,
} from "./asked";
import { PathChoices } from "./PathChoices";

/** What comes after a place in journeys, or before it: as walked, or as kept. */
export function PathsView({ app }: { app: AppSummary }) {
  const [address] = useAddress();
  const asked = readAsked(address);
  const answer = useMeasure(app.key, "paths", useScope(), {
    params: { ...asked, repeats: String(asked.repeats), whole: String(asked.whole) },
    groups: useGroups(),
  });
  return (
    <MeasureView
      app={app}
      measure="paths"
      answer={answer}
      sentence={sentence}
      purpose="this page shows where people go from a screen, and where they come from"
      columns={groupColumns}
      lead={<PathChoices app={app.key} asked={asked} />}
    >
      {(found) => <Found app={app.key} found={found} />}
    </MeasureView>
  );
}

function sentence(found: PathFigures): string {
  const { met } = found;
  const asked = askedOf(found);
  const of = {
    screen: `that are on ${placeWords(asked)}`,
    event: `with ${placeWords(asked)}`,
    entry: asked.what || asked.screen ? `with ${placeWords(asked)}` : "journeys",
    exit: asked.what || asked.screen ? `with ${placeWords(asked)}` : "journeys",
  }[asked.at];
  if (!met.count) {
    return `None of ${count(met.of)} in scope is ${of}.`;
  }
  const forward = asked.direction === "forward";
  const next = found.columns[1]?.nodes.filter((node) => node.kind !== "rest") ?? [];
  const told = [...next].sort((a, b) => b.share.count - a.share.count).slice(0, 3);
  const said = told.map(({ kind, name, share }) => {
    const way: Record<string, string> = {
      ended: "end there",
      cut: "are cut off by the log’s end",
      began: "begin there",
      node: `${forward ? "go to" : "come from"} ${isolated(short(name, 40))}`,
    };
    return `${percent(share.count / met.count)} ${way[kind]}`;
  });
  const kept = asked.reading === "kept" ? ", as kept" : "";
  return `Of ${count(met.count)} ${of}${kept}, ${said.join(", ")}.`;
}

/** The main nodes next to where paths begin. */
function groupColumns(whole: PathFigures) {
  const asked = askedOf(whole);
  const main = (whole.columns[1]?.nodes ?? []).filter((node) => node.kind !== "rest").slice(0, 4);
  const same = (found: PathFigures, { kind, name }: PathNode) =>
    found.columns[1]?.nodes.find((node) => node.kind === kind && node.name === name);
  return [
    {
      title: short(placeWords(asked), 30),
      share: (found: PathFigures) => found.met,
      path: "met",
      figure: (found: PathFigures) => found.figure,
    },
    ...main.map((node) => ({
      title: short(nodeWords(node), 24),
      share: (found: PathFigures) => same(found, node)?.share,
      path: `columns/1/nodes/${node.figure}/share`,
      figure: (found: PathFigures) => same(found, node)?.figure,
      colour: node.kind === "ended" ? "var(--rust)" : undefined,
    })),
  ];
}

function Found({ app, found }: { app: string; found: PathFigures }) {
  const [figure, choose] = useFigure();
  const [, change] = useAddress();
  const asked = askedOf(found);
  if (!found.met.count) {
    return <TakenBack found={found} />;
  }
  const forward = asked.direction === "forward";
  const heads = found.columns.map((_, i) => placeOf(i, forward));
  return (
    <>
      <TakenBack found={found} />
      <Picture
        name={`${app}-paths`}
        title={forward ? `Onward from ${placeWords(asked)}` : `Back from ${placeWords(asked)}`}
        table={{
          columns: PLACES,
          rows: placesOf(found, heads),
          id: (row) => row.figure,
          testid: "places",
        }}
      >
        <PathFlow
          found={found}
          backward={!forward}
          heads={heads}
          words={nodeWords}
          chosen={figure}
          onChoose={choose}
        />
      </Picture>
      <FromHere asked={asked} figure={figure} />
      <Ways
        app={app}
        title="The same way"
        ways={found.ways}
        more={found.ways_left_out}
        asked={asked}
      />
      {asked.whole ? (
        <Ways
          app={app}
          title={forward ? "The same way on to the end" : "The same way from the beginning"}
          ways={found.wholes}
          more={found.wholes_left_out}
          asked={asked}
        />
      ) : (
        <button
          type="button"
          className="figure-button mt-2"
          onClick={() => change(asAddress({ ...asked, whole: true }))}
        >
          {forward ? "and the same way on to the end" : "and the same way from the beginning"}
        </button>
      )}
    </>
  );
}

function TakenBack({ found }: { found: PathFigures }) {
  return found.taken_back?.count ? (
    <p className="soft small-text mb-1">
      As kept, steps that “back” undid are left out; a blue stripe shows how many took back steps
      from a node.{" "}
      <OpenFigure figure={found.taken_back.figure}>
        {count(found.taken_back.count, "journey")}
      </OpenFigure>{" "}
      took this place back each time.
    </p>
  ) : null;
}

/** What may be asked next of the node that is open. */
function FromHere({ asked, figure }: { asked: Asked; figure: string | null }) {
  const [, change] = useAddress();
  const cell = readFigure(figure)?.cell ?? [];
  const [kind, , node, name = ""] = cell;
  if (kind !== "at" || node !== "node" || asked.nodes !== "screen") {
    return (
      <p className="soft small-text">
        Choose a node or a band to see its journeys, and from a node to go on or turn round there.
      </p>
    );
  }
  const go = (direction: Asked["direction"]) =>
    change(asAddress({ ...asked, at: "screen", what: name, screen: "", direction }));
  return (
    <p className="d-flex flex-wrap gap-3 small-text" data-testid="from-here">
      <span className="fw-semibold">{short(shownName(name), 40)}</span>
      <button type="button" className="figure-button" onClick={() => go("forward")}>
        onward from it
      </button>
      <button type="button" className="figure-button" onClick={() => go("backward")}>
        what leads to it
      </button>
    </p>
  );
}

interface Place {
  figure: string;
  place: string;
  from: string;
  name: string;
  count: number;
  of: number;
  detours: PathNode["detours"];
}

function placesOf(found: PathFigures, heads: string[]): Place[] {
  const drawn = found.columns.map((column) => column.nodes.filter((node) => node.drawn));
  return found.columns.flatMap((column, i) => [
    ...column.nodes.map((node) => ({
      figure: node.figure,
      place: heads[i] ?? "",
      from: "",
      name: nodeWords(node, column.folded),
      count: node.share.count,
      of: node.share.of,
      detours: node.detours,
    })),
    ...found.flows
      .filter((flow) => flow.column === i - 1)
      .flatMap((flow) => {
        const [start, end] = [drawn[i - 1]?.[flow.start], drawn[i]?.[flow.end]];
        return start && end
          ? [
              {
                figure: flow.figure,
                place: heads[i] ?? "",
                from: nodeWords(start, found.columns[i - 1]?.folded),
                name: nodeWords(end, column.folded),
                count: flow.count,
                of: found.met.count,
                detours: null,
              },
            ]
          : [];
      }),
  ]);
}

const PLACES: Column<Place>[] = [
  { title: "place", value: (row) => row.place },
  { title: "next to", value: (row) => row.from, cell: (row) => row.from || "–", width: "16rem" },
  { title: "node", value: (row) => row.name, cell: (row) => shownName(row.name), width: "16rem" },
  opens("paths", (row) => ({ figure: row.figure, n: row.count, share: row })),
  opens("took steps back from it", (row) =>
    row.detours ? { figure: row.detours.figure, n: row.detours.count } : undefined,
  ),
];

interface WaysProps {
  app: string;
  title: string;
  ways: PathFigures["ways"];
  more: number;
  asked: Asked;
}

type Way = PathFigures["ways"][number];

function Ways({ app, title, ways, more, asked }: WaysProps) {
  const [address] = useAddress();
  const most = Math.max(...ways.map((way) => way.share.count / way.share.of), 0.001);
  const columns: Column<Way>[] = [
    {
      title: "way",
      value: (way) => way.nodes.join(" → "),
      cell: (way) => way.nodes.map((node) => short(shownName(node), 22)).join(" → "),
      width: "38rem",
    },
    opens("paths", (way) => ({ figure: way.figure, n: way.share.count })),
    bar("of all", (way) => way.share, most),
    interval((way) => way.share),
    {
      title: "as",
      value: () => null,
      pageOnly: true,
      cell: (way) =>
        asked.nodes === "screen" ? (
          <span className="d-inline-flex gap-2">
            <Link
              to={{
                pathname: "/funnels",
                search: scopeSearch(address, { funnel: JSON.stringify(specOfScreens(way.nodes)) }),
              }}
            >
              funnel
            </Link>
            <Link
              to={{
                pathname: "/patterns",
                search: scopeSearch(address, { pattern: patternOfWay(asked, way.nodes) }),
              }}
            >
              pattern
            </Link>
          </span>
        ) : null,
    },
  ];
  return (
    <section className="mt-2">
      <DataTable
        name={`${app}-ways`}
        title={`${title}: ${count(ways.length + more, "way")}`}
        columns={columns}
        rows={ways}
        id={(way) => way.figure}
        testid="ways"
        first={20}
      />
      {more > 0 && (
        <p className="soft small-text">
          {count(more, "way")} more {more === 1 ? "was" : "were"} gone more rarely, or{" "}
          {more === 1 ? "is" : "are"} longer than 40 nodes.
        </p>
      )}
    </section>
  );
}
