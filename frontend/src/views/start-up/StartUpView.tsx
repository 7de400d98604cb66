import { useRef } from "react";
import { Form } from "react-bootstrap";
import type { AppSummary, StartFigures } from "../../api/client";
import { useStartUp } from "../../api/queries";
import { Distribution } from "../../charts/Distribution";
import { count, duration, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { Evidence } from "../../shell/Evidence";
import { FigureButton } from "../../shell/FigureButton";
import { GroupChoice, useGroups } from "../../shell/GroupChoice";
import { ShareCell } from "../../shell/ShareCell";
import { Empty, Loading, Trouble } from "../../shell/states";
import { TakeAway } from "../../shell/TakeAway";
import { landingWords, startFigure } from "./words";

const SLOWEST = 10_000;
const STEP = 250;

/** How the app starts: how long it takes, where it lands, and who does not wait for it. */
export function StartUpView({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const groups = useGroups();
  const slow = Math.min(Math.max(Number(address.get("slow")) || 2000, STEP), SLOWEST);
  const answer = useStartUp(app.key, scope, slow, groups);
  const chart = useRef<HTMLDivElement>(null);
  if (answer.isPending) {
    return <Loading />;
  }
  if (answer.isError) {
    return <Trouble problem={answer.error} />;
  }
  const found = answer.data;
  const { whole } = found;
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
        <h1>{sentence(found)}</h1>
        <p className="soft small-text mb-3">
          <Kinds found={found} figure={figure} onChoose={choose} />
          {whole.small && cold > 0 && " Fewer than 30: too few for the shares to tell much."}
        </p>
        {cold > 0 && (
          <>
            <div className="d-flex justify-content-between align-items-baseline">
              <h2>From the start to the first screen after the splash</h2>
              <TakeAway
                name={`${app.key}-start-up`}
                chart={chart}
                rows={() => [
                  ["from ms", "to ms", "landed", "left"],
                  ...found.bins.map((bin) => [bin.low, bin.high ?? null, bin.landed, bin.left]),
                ]}
              />
            </div>
            <div ref={chart}>
              <Distribution
                bins={found.bins}
                slow={slow}
                chosen={figure}
                figureOf={(bin) => own(bin.cell)}
                onChoose={choose}
              />
            </div>
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
              <SlowWords found={found} slow={slow} figure={figure} onChoose={choose} />
            </div>
          </>
        )}
        <div className="d-flex flex-wrap column-gap-5">
          <div>
            <Landings found={found} figure={figure} onChoose={choose} />
          </div>
          <div>
            <GroupChoice
              app={app.key}
              groups={groups}
              values={found.groups.map((group) => group.value ?? "")}
            />
            {found.left_between && (
              <p className="mb-1">
                {groups.one || "not told"} less {groups.other || "not told"}: {leftWords(found)}{" "}
                {points(found.left_between.difference)}{" "}
                <span className="soft">
                  (95 %: {points(found.left_between.low)} to {points(found.left_between.high)})
                </span>
              </p>
            )}
            {groups.by && (
              <GroupTable
                found={found}
                by={groups.by}
                slow={slow}
                figure={figure}
                onChoose={choose}
              />
            )}
          </div>
        </div>
      </div>
      {figure && (
        <Evidence app={app.key} scope={scope} measure="start-up" figure={figure} counted="starts" />
      )}
    </>
  );
}

function points(difference: number): string {
  const said = (Math.abs(difference) * 100).toFixed(1);
  return `${difference < 0 ? "−" : "+"}${said} points`;
}

function sentence(found: StartFigures): string {
  const { whole } = found;
  const cold = whole.kinds.cold ?? 0;
  if (!cold) {
    return `The log tells no start of the app, but ${count(whole.starts, "session")} that begin.`;
  }
  const times = whole.times
    ? ` The middle one shows a first screen after ${duration(whole.times.median)}, one in ten after ${duration(whole.times.p90)} or more.`
    : "";
  return `Of ${count(cold, "cold start")}, ${percent(whole.left.count / cold)} were ${leftWords(found)}.${times}`;
}

/** Where the map names no splash, the log does not tell on what they left. */
function leftWords(found: StartFigures): string {
  return found.has_splash ? "left on the splash" : "left before a screen showed";
}

interface PartProps {
  found: StartFigures;
  figure: string | null;
  onChoose: (figure: string) => void;
}

function Kinds({ found, figure, onChoose }: PartProps) {
  const { whole } = found;
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
      {one("left", whole.left.count, `${leftWords(found)} · `)}
      {one("warm", whole.kinds.warm ?? 0, "sessions began in the running app · ")}
      {one("recreated", whole.kinds.recreated ?? 0, "times the app was rebuilt · ")}
      {one("link", whole.by_link.count, "starts by a link.")}
    </>
  );
}

function SlowWords({ found, slow, figure, onChoose }: PartProps & { slow: number }) {
  const { whole } = found;
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

function Landings({ found, figure, onChoose }: PartProps) {
  const { whole } = found;
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

interface TableProps {
  found: StartFigures;
  by: string;
  slow: number;
  figure: string | null;
  onChoose: (figure: string) => void;
}

function GroupTable({ found, by, slow, figure, onChoose }: TableProps) {
  const { groups } = found;
  const most = Math.max(...groups.map((group) => group.left.high * Number(!group.small)), 0.001);
  return (
    <table className="table table-sm plain" data-testid="groups">
      <thead>
        <tr>
          <th>{by}</th>
          <th className="n">cold starts</th>
          <th className="n">{leftWords(found)}</th>
          <th>of cold starts</th>
          <th className="n">middle</th>
          <th className="n">1 in 10 from</th>
          <th>slow</th>
          <th className="n">of slow, ended there</th>
        </tr>
      </thead>
      <tbody>
        {groups.map((group) => {
          const value = group.value ?? "";
          const own = (cell: string) => startFigure({ cell, slow, by, value });
          const button = (cell: string, said: string) => (
            <FigureButton figure={own(cell)} chosen={figure} onChoose={onChoose}>
              {said}
            </FigureButton>
          );
          return (
            <tr key={value}>
              <td className="clip" style={{ maxWidth: "12rem" }}>
                {value || <span className="soft">not told</span>}
                {group.small && <span className="soft small-text"> too few</span>}
              </td>
              <td className="n">{button("cold", count(group.kinds.cold ?? 0))}</td>
              <td className="n">{button("left", count(group.left.count))}</td>
              <td>
                <ShareCell share={group.left} most={most} colour="var(--rust)" />
              </td>
              <td className="n">{group.times && duration(group.times.median)}</td>
              <td className="n">{group.times && duration(group.times.p90)}</td>
              <td>
                <ShareCell share={group.slow.starts} most={1} colour="var(--ochre)" />
              </td>
              <td className="n">
                {group.slow.ended.of > 0 &&
                  button("slow.ended", percent(group.slow.ended.count / group.slow.ended.of))}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
