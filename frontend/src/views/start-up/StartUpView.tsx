import { Form } from "react-bootstrap";
import type { AppSummary, StartFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { Distribution } from "../../charts/Distribution";
import { count, duration, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { Evidence } from "../../shell/Evidence";
import { FigureButton } from "../../shell/FigureButton";
import { GroupChoice, useGroups } from "../../shell/GroupChoice";
import { type GroupColumn, GroupTable } from "../../shell/GroupTable";
import { Picture } from "../../shell/Picture";
import { ShareCell } from "../../shell/ShareCell";
import { Empty, Loading, Trouble } from "../../shell/states";
import { landingWords, startFigure } from "./words";

const SLOWEST = 10_000;
const STEP = 250;

/** How the app starts: how long it takes, where it lands, and who does not wait for it. */
export function StartUpView({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const opened = address.get("figure");
  const groups = useGroups();
  const slow = Math.min(Math.max(Number(address.get("slow")) || 2000, STEP), SLOWEST);
  const answer = useMeasure(app.key, "start-up", scope, { params: { slow }, groups });
  if (answer.isPending) {
    return <Loading />;
  }
  if (answer.isError) {
    return <Trouble problem={answer.error} />;
  }
  const whole = answer.data.whole;
  if (!app.logs || !whole.starts) {
    return (
      <Empty title={app.logs ? "No start is in scope." : "There is no log of this app yet."}>
        Bring a log in under Logs, or widen the scope; then this page shows how long the app takes
        to start, where it lands, and who left before it did.
      </Empty>
    );
  }
  const cold = whole.kinds.cold ?? 0;
  const own = (cell: string) => startFigure({ cell });
  return (
    <>
      <div className="view-body">
        <h1>{sentence(whole)}</h1>
        <p className="soft small-text mb-3">
          <Kinds whole={whole} figure={figure} onChoose={choose} />
          {whole.small && cold > 0 && " Fewer than 30: too few for the shares to tell much."}
        </p>
        {cold > 0 && (
          <>
            <Picture
              name={`${app.key}-start-up`}
              title="From the start to the first screen after the splash"
              rows={() => [
                ["from ms", "to ms", "landed", "left"],
                ...whole.bins.map((bin) => [bin.low, bin.high ?? null, bin.landed, bin.left]),
              ]}
            >
              <Distribution
                bins={whole.bins}
                slow={slow}
                chosen={figure}
                figureOf={(bin) => own(bin.cell)}
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
              <SlowWords whole={whole} slow={slow} figure={figure} onChoose={choose} />
            </div>
          </>
        )}
        <div className="d-flex flex-wrap column-gap-5">
          <div>
            <Landings whole={whole} figure={figure} onChoose={choose} />
          </div>
          <div>
            <GroupChoice
              app={app.key}
              groups={groups}
              values={answer.data.groups.map((group) => group.value)}
            />
            <GroupTable
              measured={answer.data}
              groups={groups}
              columns={columns(whole, slow)}
              small={(found) => found.small}
            />
          </div>
        </div>
      </div>
      {opened && <Evidence app={app.key} measure="start-up" figure={opened} counted="starts" />}
    </>
  );
}

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

interface PartProps {
  whole: StartFigures;
  figure: string | null;
  onChoose: (figure: string) => void;
}

function Kinds({ whole, figure, onChoose }: PartProps) {
  const one = (cell: string, n: number, said: string) =>
    n > 0 && (
      <>
        <FigureButton figure={startFigure({ cell })} chosen={figure} onChoose={onChoose}>
          {count(n)}
        </FigureButton>{" "}
        {said}
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

function SlowWords({ whole, slow, figure, onChoose }: PartProps & { slow: number }) {
  const said = (cell: "slow" | "quick") => {
    const { starts, ended } = whole[cell];
    return (
      <span>
        <FigureButton figure={startFigure({ cell, slow })} chosen={figure} onChoose={onChoose}>
          {count(starts.count)}
        </FigureButton>{" "}
        {cell === "slow" ? "slow starts" : "others"} ({percent(starts.count / starts.of || 0)}):{" "}
        <FigureButton
          figure={startFigure({ cell: `${cell}.ended`, slow })}
          chosen={figure}
          onChoose={onChoose}
        >
          {percent(ended.count / ended.of || 0)}
        </FigureButton>{" "}
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

function Landings({ whole, figure, onChoose }: PartProps) {
  const landings = Object.entries(whole.landings).sort((a, b) => b[1].count - a[1].count);
  const most = Math.max(...landings.map(([, share]) => share.count / share.of || 0));
  return (
    <>
      <h2>Where starts land</h2>
      <table className="table table-sm plain">
        <tbody>
          {landings.map(([landing, share]) => (
            <tr key={landing}>
              <td>{landingWords(landing)}</td>
              <td className="n">
                <FigureButton
                  figure={startFigure({ cell: `land.${landing}` })}
                  chosen={figure}
                  onChoose={onChoose}
                >
                  {count(share.count)}
                </FigureButton>
              </td>
              <td>
                <ShareCell share={share} most={most} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
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
