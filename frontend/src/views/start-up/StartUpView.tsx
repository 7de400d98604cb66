import { Form } from "react-bootstrap";
import type { AppSummary, StartFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { Distribution } from "../../charts/Distribution";
import { count, duration, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { bar, type Column, number, opens } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { OpenFigure } from "../../shell/FigureButton";
import { useGroups } from "../../shell/GroupChoice";
import type { GroupColumn } from "../../shell/GroupTable";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { Empty } from "../../shell/states";
import { landingWords, startFigure } from "./words";

const SLOWEST = 10_000;
const STEP = 250;

/** How the app starts: how long it takes, where it lands, and who does not wait for it. */
export function StartUpView({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const slow = Math.min(Math.max(Number(address.get("slow")) || 2000, STEP), SLOWEST);
  const answer = useMeasure(app.key, "start-up", scope, { params: { slow }, groups: useGroups() });
  return (
    <MeasureView
      app={app}
      measure="start-up"
      answer={answer}
      purpose="this page shows how long the app takes to start, where it lands, and who left before it did"
      counted="starts"
      sentence={sentence}
      empty={(whole) =>
        whole.starts === 0 && (
          <Empty title="No start is in scope.">Widen the scope, and starts are told here.</Empty>
        )
      }
      columns={(whole) => columns(whole, slow)}
      small={(found) => found.small}
    >
      {(whole) => (
        <>
          <p className="soft small-text mb-3">
            <Kinds whole={whole} />
            {whole.small &&
              (whole.kinds.cold ?? 0) > 0 &&
              " Fewer than 30: too few for the shares to tell much."}
          </p>
          {(whole.kinds.cold ?? 0) > 0 && (
            <>
              <Picture
                name={`${app.key}-start-up`}
                title="From the start to the first screen after the splash"
                table={{ columns: BINS, rows: whole.bins, id: (bin) => bin.cell }}
              >
                <Distribution
                  bins={whole.bins}
                  slow={slow}
                  chosen={figure}
                  figureOf={(bin) => startFigure({ cell: bin.cell })}
                  onChoose={choose}
                />
              </Picture>
              <div className="d-flex flex-wrap gap-3 align-items-center mb-3">
                <Form.Range
                  aria-label="A start is slow from"
                  style={{ width: "16rem" }}
                  min={STEP}
                  max={SLOWEST}
                  step={STEP}
                  value={slow}
                  onChange={(event) => change({ slow: event.target.value, figure: null })}
                />
                <SlowWords whole={whole} slow={slow} />
              </div>
            </>
          )}
          <Landings app={app.key} whole={whole} />
        </>
      )}
    </MeasureView>
  );
}

type Bin = StartFigures["bins"][number];

const BINS: Column<Bin>[] = [
  number("from, ms", (bin) => bin.low),
  number("to, ms", (bin) => bin.high),
  opens("starts", (bin) => ({
    figure: startFigure({ cell: bin.cell }),
    n: bin.landed + bin.left,
  })),
  number("landed", (bin) => bin.landed),
  number("left", (bin) => bin.left),
];

function sentence(whole: StartFigures): string {
  const cold = whole.kinds.cold ?? 0;
  if (!cold) {
    return `The log tells no start of the app, but ${count(whole.starts, "session")} that begin.`;
  }
  const times = whole.times
    ? ` The middle one shows a first screen after ${duration(whole.times.median)}, one in ten after ${duration(whole.times.p90)} or more.`
    : "";
  return `Of ${count(cold, "cold start")}, ${percent(whole.left.count / cold)} were ${leftWords(whole)}.${times}`;
}

/** Where the map names no splash, the log does not tell on what they left. */
function leftWords(found: StartFigures): string {
  return found.has_splash ? "left on the splash" : "left before a screen showed";
}

function Kinds({ whole }: { whole: StartFigures }) {
  const one = (cell: string, n: number, said: string) =>
    n > 0 && (
      <>
        <OpenFigure figure={startFigure({ cell })}>{count(n)}</OpenFigure> {said}
      </>
    );
  return (
    <>
      {one("left", whole.left.count, `${leftWords(whole)} · `)}
      {one("warm", whole.kinds.warm ?? 0, "sessions began in the running app · ")}
      {one("recreated", whole.kinds.recreated ?? 0, "times the app was rebuilt · ")}
      {one("link", whole.by_link.count, "starts by a link.")}
    </>
  );
}

function SlowWords({ whole, slow }: { whole: StartFigures; slow: number }) {
  const said = (cell: "slow" | "quick") => {
    const { starts, ended } = whole[cell];
    return (
      <span>
        <OpenFigure figure={startFigure({ cell, slow })}>{count(starts.count)}</OpenFigure>{" "}
        {cell === "slow" ? "slow starts" : "others"} ({percent(starts.count / starts.of || 0)}):{" "}
        <OpenFigure figure={startFigure({ cell: `${cell}.ended`, slow })}>
          {percent(ended.count / ended.of || 0)}
        </OpenFigure>{" "}
        ended on the first screen
      </span>
    );
  };
  return (
    <>
      {said("slow")}
      {said("quick")}
    </>
  );
}

type Landing = { landing: string; share: StartFigures["left"] };

function Landings({ app, whole }: { app: string; whole: StartFigures }) {
  const landings = Object.entries(whole.landings)
    .map(([landing, share]) => ({ landing, share }))
    .sort((a, b) => b.share.count - a.share.count);
  const most = Math.max(...landings.map(({ share }) => share.count / share.of || 0));
  return (
    <DataTable
      name={`${app}-landings`}
      title="Where starts land"
      columns={[
        { title: "landed", value: ({ landing }) => landingWords(landing) },
        opens<Landing>("starts", ({ landing, share }) => ({
          figure: startFigure({ cell: `land.${landing}` }),
          n: share.count,
        })),
        bar<Landing>("of all", ({ share }) => share, most),
      ]}
      rows={landings}
      id={({ landing }) => landing}
    />
  );
}

function columns(whole: StartFigures, slow: number): GroupColumn<StartFigures>[] {
  const own = (cell: string) => () => startFigure({ cell, slow });
  return [
    { title: "cold starts", count: (found) => found.kinds.cold, figure: own("cold") },
    {
      title: leftWords(whole),
      share: (found) => found.left,
      path: "left",
      figure: own("left"),
      colour: "var(--rust)",
    },
    { title: "middle", time: (found) => found.times?.median },
    { title: "1 in 10 from", time: (found) => found.times?.p90 },
    {
      title: "slow",
      share: (found) => found.slow.starts,
      path: "slow/starts",
      figure: own("slow"),
      colour: "var(--ochre)",
    },
    {
      title: "of slow, ended there",
      share: (found) => found.slow.ended,
      path: "slow/ended",
      figure: own("slow.ended"),
    },
  ];
}
