import type { AppSummary, LinkFigures } from "../../api/client";
import { useLinks } from "../../api/queries";
import { count, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { CountButton } from "../../shell/CountButton";
import { MeasureView } from "../../shell/MeasureView";
import { TakeTable } from "../../shell/TakeAway";
import { AFTER, LANDED } from "../inside";

/** Deep links: one line a pattern, from opened to landed to stayed. */
export function LinksView({ app }: { app: AppSummary }) {
  const answer = useLinks(app.key, useScope());
  return (
    <MeasureView
      app={app}
      measure="links"
      answer={answer}
      purpose="this page shows where deep links land"
      counted="of them"
    >
      {(found) => (
        <>
          <h1>{sentence(found)}</h1>
          {found.opened > 0 && (
            <>
              <TakeTable name={`${app.key}-links`} rows={() => table(found)} />
              <Lines found={found} />
              <Rest found={found} />
            </>
          )}
        </>
      )}
    </MeasureView>
  );
}

function sentence(found: LinkFigures): string {
  if (!found.opened) {
    return `No link was opened in ${count(found.in_scope, "journey")} in scope.`;
  }
  const share = percent(found.arrived.count / found.arrived.of || 0);
  const odd = found.patterns.find((one) => one.placeholder.times);
  const filled = odd
    ? ` ${count(odd.placeholder.times)} of ${odd.pattern} came with a value that was never filled in.`
    : "";
  const [worst] = found.unmatched;
  const lost = worst
    ? ` ${count(worst.count.times)} fit no pattern, most ${worst.link}: what differs is ${worst.differs}.`
    : "";
  return `${share} of ${count(found.opened, "link")} reached what they name.${lost}${filled}`;
}

function table(found: LinkFigures): (string | number | null)[][] {
  const ends = Object.keys(LANDED);
  const after = Object.keys(AFTER);
  return [
    ["pattern", "opened", ...ends, ...after, "placeholder"],
    ...found.patterns.map((one) => [
      one.pattern,
      one.opened.times,
      ...ends.map((end) => one.landed[end]?.times ?? 0),
      ...after.map((what) => one.after[what]?.times ?? 0),
      one.placeholder.times,
    ]),
  ];
}

const COLOURS: Record<string, string> = {
  target: "var(--moss)",
  recovered: "var(--tarn)",
  fallback: "var(--stone)",
  not_found: "var(--rust)",
  lost: "var(--rust)",
  nothing: "var(--ochre)",
  stayed: "var(--moss)",
  back: "var(--tarn)",
  back_out: "var(--ochre)",
  bounced: "var(--rust)",
};

/** Shares of a whole, side by side in one bar. */
function Bar({ parts, words }: { parts: [string, number][]; words: Record<string, string> }) {
  const total = parts.reduce((sum, [, n]) => sum + n, 0) || 1;
  let x = 0;
  return (
    <svg width={110} height={14} aria-hidden="true">
      {parts.map(([part, n]) => {
        const wide = (n / total) * 110;
        const at = x;
        x += wide;
        return (
          <rect
            key={part}
            x={at}
            y={2}
            width={Math.max(wide - 0.7, 0)}
            height={10}
            fill={COLOURS[part]}
          >
            <title>{`${words[part]}: ${count(n)}`}</title>
          </rect>
        );
      })}
    </svg>
  );
}

function Lines({ found }: { found: LinkFigures }) {
  const ends = Object.keys(LANDED).filter((end) =>
    found.patterns.some((one) => one.landed[end]?.times),
  );
  const after = Object.keys(AFTER);
  return (
    <table className="table table-sm plain" data-testid="links">
      <thead>
        <tr>
          <th>pattern</th>
          <th className="n">opened</th>
          <th>what they led to</th>
          {ends.map((end) => (
            <th key={end} className="n" style={{ borderBottomColor: COLOURS[end] }}>
              {LANDED[end]}
            </th>
          ))}
          <th>and then</th>
          {after.map((what) => (
            <th key={what} className="n" style={{ borderBottomColor: COLOURS[what] }}>
              {AFTER[what]}
            </th>
          ))}
          <th className="n">placeholder</th>
        </tr>
      </thead>
      <tbody>
        {found.patterns.map((one) => (
          <tr key={one.pattern}>
            <td className="clip" style={{ maxWidth: "15rem" }} title={one.pattern}>
              {one.pattern}
            </td>
            <td className="n">
              <CountButton own={one.opened} />
            </td>
            <td>
              <Bar parts={ends.map((end) => [end, one.landed[end]?.times ?? 0])} words={LANDED} />
            </td>
            {ends.map((end) => (
              <td key={end} className="n">
                <CountButton own={one.landed[end]} />
              </td>
            ))}
            <td>
              <Bar parts={after.map((what) => [what, one.after[what]?.times ?? 0])} words={AFTER} />
            </td>
            {after.map((what) => (
              <td key={what} className="n">
                <CountButton own={one.after[what]} />
              </td>
            ))}
            <td className="n">
              <CountButton own={one.placeholder} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Rest({ found }: { found: LinkFigures }) {
  return (
    <>
      <p>
        {percent(found.bounced.count / found.bounced.of || 0)} of those that landed ended there; of
        journeys without a link {percent(found.without.count / found.without.of || 0)} have two
        steps or fewer.{" "}
        {Object.entries(found.sources).map(([source, own], i) => (
          <span key={source}>
            {i > 0 && " · "}
            {source} <CountButton own={own} />
          </span>
        ))}
        {Object.entries(found.starts).map(([start, own]) => (
          <span key={start}>
            {" · "}
            {start === "cold" ? "started the app" : "in the running app"} <CountButton own={own} />
          </span>
        ))}
      </p>
      {found.unmatched.length > 0 && (
        <>
          <h2>Links that fit no pattern</h2>
          <table className="table table-sm plain" data-testid="unmatched">
            <thead>
              <tr>
                <th>link</th>
                <th className="n">opened</th>
                <th>closest pattern</th>
                <th>what differs</th>
              </tr>
            </thead>
            <tbody>
              {found.unmatched.slice(0, 50).map((one) => (
                <tr key={one.link}>
                  <td className="clip" style={{ maxWidth: "24rem" }} title={one.link}>
                    {one.link}
                  </td>
                  <td className="n">
                    <CountButton own={one.count} />
                  </td>
                  <td>{one.closest}</td>
                  <td>{one.differs}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}
