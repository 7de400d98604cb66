import { useCallback } from "react";
import { Link } from "react-router";
import type { AppSummary, Health } from "../../api/client";
import { useFit, useHealth } from "../../api/queries";
import { count, date, duration, percent, time } from "../../format";
import { scopeSearch, useAddress } from "../../scope/scope";
import { Evidence } from "../../shell/Evidence";
import { PlainTable } from "../../shell/PlainTable";
import { Empty, Loading, Trouble } from "../../shell/states";
import { FitLine, poorSentence, WHOLE } from "../fit/Fit";
import { Misfits } from "../fit/Misfits";
import { isPoor } from "../fit/words";
import { RowFates } from "../logs/RowFates";
import { FindingRows } from "./FindingRows";
import { FINDINGS, GRAVE, LOUD, LOUD_ORDER, OPENABLE, type Openable, ORDER } from "./findings";
import { RowsOverTime } from "./RowsOverTime";

/** What became of every row of an app's logs, and what about them is odd. */
export function HealthView({ app }: { app: AppSummary }) {
  const [address, change] = useAddress();
  const found = useHealth(app.key);
  const opened = OPENABLE.find((finding) => finding === address.get("finding"));
  const close = useCallback(() => change({ finding: null }), [change]);
  const fit = useFit(app.key);
  const poor = fit.data && isPoor(fit.data) ? fit.data : null;
  const figure = address.get("figure");
  const choose = useCallback(
    (chosen: string) => change({ figure: chosen === figure ? null : chosen, finding: null }),
    [change, figure],
  );
  if (found.isPending) {
    return <Loading />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const open = (finding: Openable) =>
    change({ finding: finding === opened ? null : finding, figure: null });
  const health = found.data;
  const loudest = LOUD_ORDER.find((one) => health.loud[one]);
  const first = loudest ? `${LOUD[loudest].what}.` : poor ? poorSentence(poor) : null;
  const aside = health.set_aside.reduce((sum, one) => sum + one.rows, 0);
  if (!health.rows && !aside) {
    return (
      <Empty title="There is no log of this app yet.">
        <Link to={{ pathname: "/logs", search: scopeSearch(address) }}>Bring one in</Link>, and this
        page says what became of each of its rows.
      </Empty>
    );
  }
  return (
    <>
      <div className="view-body">
        <div className="column">
          <h1>{first ?? sentence(health, aside)}</h1>
          {poor && !loudest && <p className="mb-1">{sentence(health, aside)}</p>}
          <p className="soft mb-0 mt-1">
            {count(health.rows + aside, "row")} of all logs of the app, whatever is in scope;{" "}
            {count(health.journeys, "journey")}, {count(health.steps, "step")}.
          </p>
        </div>
        <Loud health={health} opened={opened} onOpen={open} />
        <div>
          <FitLine app={app} figure={figure} onFigure={choose} />
          {poor && <Misfits app={app.key} figure={figure} onFigure={choose} />}
        </div>
        <RowsOverTime health={health} />
        <div>
          <Gaps gaps={health.gaps} />
          <RowFates fates={health.fates} setAside={aside} />
          <SetAside health={health} />
          <Findings health={health} opened={opened} onOpen={open} />
          <ManyScreens health={health} />
          {!poor && <Misfits app={app.key} figure={figure} onFigure={choose} />}
        </div>
      </div>
      {figure && (
        <Evidence app={app.key} scope={WHOLE} measure="fit" figure={figure} counted="such moves" />
      )}
      {opened && !figure && (
        <FindingRows key={opened} app={app.key} finding={opened} onClose={close} />
      )}
    </>
  );
}

interface LoudProps {
  health: Health;
  opened: Openable | undefined;
  onOpen: (finding: Openable) => void;
}

/** What makes figures wrong all over the log, with what would mend it. */
function Loud({ health, opened, onOpen }: LoudProps) {
  const found = LOUD_ORDER.filter((one) => health.loud[one]);
  const words = Object.entries(health.words_unread).slice(0, 8);
  if (!found.length) {
    return null;
  }
  return (
    <ul className="doubts" data-testid="loud">
      {found.map((one) => (
        <li key={one}>
          <strong>{LOUD[one].what}</strong>{" "}
          <RowsButton
            finding={one}
            rows={health.loud[one] ?? 0}
            chosen={one === opened}
            onOpen={onOpen}
            unit
          />
          . {LOUD[one].mend}
          {one === "words_unread" && (
            <span className="soft">
              {" "}
              {words.map(([word, n]) => `${word} ${count(n)}`).join(", ")}
            </span>
          )}
        </li>
      ))}
    </ul>
  );
}

interface RowsButtonProps {
  finding: Openable;
  rows: number;
  chosen: boolean;
  onOpen: (finding: Openable) => void;
  unit?: boolean;
}

/** A number of rows that opens to them. */
function RowsButton({ finding, rows, chosen, onOpen, unit }: RowsButtonProps) {
  return (
    <button
      type="button"
      className={`figure-button ${chosen ? "chosen" : ""}`}
      data-finding={finding}
      aria-pressed={chosen}
      onClick={() => onOpen(finding)}
    >
      {unit ? count(rows, "row") : count(rows)}
    </button>
  );
}

function sentence(health: Health, aside: number): string {
  const parts: string[] = [];
  if (health.gaps.length) {
    const longest = Math.max(...health.gaps.map((gap) => gap.end - gap.start));
    parts.push(
      health.gaps.length === 1
        ? `a gap of ${duration(longest)}`
        : `${health.gaps.length} gaps, the longest of ${duration(longest)}`,
    );
  }
  if (health.too_many_screens) {
    parts.push(`${count(health.screens)} screens, so many that ids must stand in their names`);
  }
  for (const finding of GRAVE) {
    const rows = health.findings[finding] ?? 0;
    if (rows / health.rows >= 0.001) {
      parts.push(`${count(rows, "row")} ${FINDINGS[finding].what}`);
    }
  }
  if (aside) {
    parts.splice(2, 0, `${count(aside, "row")} that could not be used`);
  }
  if (!parts.length) {
    return "The log is sound: every row is used, and nothing about them is grave.";
  }
  const [last, ...before] = parts.slice(0, 3).reverse();
  return `The log has ${before.length ? `${before.reverse().join("; ")}; and ` : ""}${last}.`;
}

function Gaps({ gaps }: { gaps: Health["gaps"] }) {
  return gaps.slice(0, 5).map((gap) => (
    <p key={gap.start} className="mb-1">
      <span className="mark-word">No rows</span> from {date(gap.start)} {time(gap.start)} to{" "}
      {date(gap.end)} {time(gap.end)}, where {count(gap.expected)} sessions usually begin.{" "}
      <span className="soft">What people did then is missing from every figure.</span>
    </p>
  ));
}

function SetAside({ health }: { health: Health }) {
  const [address] = useAddress();
  if (!health.set_aside.length) {
    return null;
  }
  return (
    <p className="mb-2">
      {health.set_aside.slice(0, 6).map((one) => (
        <span key={one.reason} className="me-3">
          <span className="fw-semibold">{count(one.rows)}</span> {one.reason}
        </span>
      ))}
      <Link to={{ pathname: "/logs", search: scopeSearch(address) }}>
        look at them, or read them otherwise
      </Link>
    </p>
  );
}

interface FindingsProps {
  health: Health;
  opened: Openable | undefined;
  onOpen: (finding: Openable) => void;
}

function Findings({ health, opened, onOpen }: FindingsProps) {
  const some = ORDER.filter((finding) => health.findings[finding]);
  const none = ORDER.filter((finding) => !health.findings[finding]);
  return (
    <>
      <PlainTable className="mt-2" testid="findings">
        <thead>
          <tr>
            <th className="n">rows</th>
            <th className="n">of all</th>
            <th>what is odd about them</th>
            <th>what it does to the figures</th>
          </tr>
        </thead>
        <tbody>
          {some.map((finding) => {
            const rows = health.findings[finding] ?? 0;
            return (
              <tr key={finding} className={finding === opened ? "table-active" : ""}>
                <td className="n">
                  <RowsButton
                    finding={finding}
                    rows={rows}
                    chosen={finding === opened}
                    onOpen={onOpen}
                  />
                </td>
                <td className="n soft text-nowrap">{percent(rows / health.rows)}</td>
                <td>{FINDINGS[finding].what}</td>
                <td className="soft">{FINDINGS[finding].effect}</td>
              </tr>
            );
          })}
          {health.duplicates > 0 && (
            <tr>
              <td className="n">{count(health.duplicates)}</td>
              <td />
              <td>live events that came twice</td>
              <td className="soft">They were dropped when they came.</td>
            </tr>
          )}
        </tbody>
      </PlainTable>
      {none.length > 0 && (
        <p className="small-text soft">
          Looked for and not found: rows {none.map((finding) => FINDINGS[finding].what).join("; ")}.
        </p>
      )}
    </>
  );
}

function ManyScreens({ health }: { health: Health }) {
  if (!health.too_many_screens || !health.patterns.length) {
    return null;
  }
  return (
    <>
      <h2>Screens with ids in their names</h2>
      <p className="mb-1">
        Each is taken for a screen of its own, so no figure of a screen means much. Keep the id in a
        column of its own, or name these routes in the map:
      </p>
      <PlainTable>
        <tbody>
          {health.patterns.map((one) => (
            <tr key={one.pattern}>
              <td className="n">{count(one.names, "name")}</td>
              <td className="fw-semibold">{one.pattern}</td>
              <td className="soft">such as {one.example}</td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
    </>
  );
}
