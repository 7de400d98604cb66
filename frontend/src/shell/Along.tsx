import { useRef } from "react";
import { Form } from "react-bootstrap";
import type { Schemas } from "../api/client";
import { useTrend, useVocabulary } from "../api/queries";
import { intervalWords, sideWords, TrendLine } from "../charts/TrendLine";
import { count, date, signed, signedTime } from "../format";
import { type Scope, useAddress } from "../scope/scope";
import { PlainTable } from "./PlainTable";
import { ShareCell } from "./ShareCell";
import { TakeAway } from "./TakeAway";

interface Props {
  app: string;
  scope: Scope;
  measure: string;
  figure: string;
}

const STRETCHES = { day: 1, week: 7 } as const;

/** What the address asks of the open figure: over time, or for each value of a property. */
export function useAlong() {
  const [address] = useAddress();
  const [kind = "", ...value] = (address.get("split") ?? "").split(":");
  const over = kind === "over" && value[0] === "week" ? "week" : "day";
  if (kind === "over") {
    return { over } as const;
  }
  return kind === "by" ? { by: value.join(":") } : null;
}

/** The open figure by day, by week, or for each value of a property. */
export function Along({ app, scope, measure, figure }: Props) {
  const [address, change] = useAddress();
  const along = useAlong();
  const properties = useVocabulary(app).data?.properties ?? [];
  const timed = address.get("timed") === "true";
  const two = address.get("versus")?.split("\n") ?? [];
  const pair = two.length === 2 && along?.by ? { one: two[0], other: two[1] } : {};
  const found = useTrend(
    app,
    scope,
    { measure, figure, timed, ...pair, ...along },
    along !== null,
  ).data;
  return (
    <>
      <span className="d-inline-flex flex-wrap column-gap-3 align-items-baseline">
        <Form.Select
          size="sm"
          className="in-row"
          aria-label="This figure by"
          value={address.get("split") ?? ""}
          onChange={(event) => change({ split: event.target.value, versus: null })}
        >
          <option value="">over time, by …</option>
          <option value="over:day">by day</option>
          <option value="over:week">by week</option>
          {properties.map((property) => (
            <option key={property.name} value={`by:${property.name}`}>
              by {property.name}
            </option>
          ))}
        </Form.Select>
        {along && found?.has_time && (
          <button
            type="button"
            className={`figure-button small-text ${timed ? "chosen" : ""}`}
            aria-pressed={timed}
            onClick={() => change({ timed: timed ? null : "true" })}
          >
            how long
          </button>
        )}
      </span>
      {along && found && (
        <div data-testid="trend">
          <p className="small-text soft mb-1">
            {found.says ? `${found.says}, of ${found.of}` : "of what is in scope"}
            {found.timed && ": the median"}
          </p>
          {along.over ? (
            <OverTime trend={found} over={along.over} name={`${measure}-over-time`} />
          ) : (
            <Values trend={found} two={two} />
          )}
        </div>
      )}
    </>
  );
}

function OverTime({
  trend,
  over,
  name,
}: {
  trend: Schemas["Trend"];
  over: "day" | "week";
  name: string;
}) {
  const [address, change] = useAddress();
  const chart = useRef<HTMLDivElement>(null);
  const part = address.get("part_over") === over ? address.get("part") : null;
  const open = (day: string) =>
    change(
      day === part
        ? { part: null, part_by: null, part_over: null }
        : { part: day, part_by: null, part_over: over },
    );
  if (trend.points.length < 2) {
    return <p className="small-text mb-1">There is but one {over} to tell of.</p>;
  }
  return (
    <>
      <div ref={chart}>
        <TrendLine trend={trend} width={STRETCHES[over]} chosen={part} onChoose={open} />
      </div>
      {trend.changes.map((one) => (
        <p key={one.day} className="small-text mb-1" data-testid="change">
          From {date(+new Date(one.day))} on {sideWords(one.after, trend.timed)} instead of{" "}
          {sideWords(one.before, trend.timed)}
          <span className="soft"> (p {one.p < 0.001 ? "< 0.001" : one.p.toFixed(3)})</span>:{" "}
          <button
            type="button"
            className="figure-button"
            onClick={() => change({ until: dayBefore(one.day) })}
          >
            only before
          </button>{" "}
          <button
            type="button"
            className="figure-button"
            onClick={() => change({ since: one.day })}
          >
            only after
          </button>
        </p>
      ))}
      <div className="d-flex gap-3 small-text">
        <span className="soft">{trend.changes.length === 0 && "No change beyond chance."}</span>
        <span className="ms-auto d-inline-flex gap-3">
          <TakeAway name={name} chart={chart} rows={() => rowsOf(trend)} />
        </span>
      </div>
    </>
  );
}

function dayBefore(day: string): string {
  return new Date(+new Date(day) - 86_400_000).toISOString().slice(0, 10);
}

function rowsOf({ points, timed }: Schemas["Trend"]) {
  return [
    ["value", "journeys", timed ? "median, ms" : "share", "low", "high", "count", "of", "users"],
    ...points.map(({ value, journeys, figure }) => [
      value,
      journeys,
      figure?.value ?? null,
      figure?.low ?? null,
      figure?.high ?? null,
      figure?.count ?? null,
      figure?.of ?? null,
      figure?.users ?? null,
    ]),
  ];
}

function Values({ trend, two }: { trend: Schemas["Trend"]; two: string[] }) {
  const [, change] = useAddress();
  const { points, between, timed } = trend;
  const [one, other] = two;
  const most = Math.max(...points.map(({ figure }) => figure?.value ?? 0), 0.001);
  const says = timed ? signedTime : signed;
  return (
    <>
      <PlainTable testid="split">
        <tbody>
          {points.map(({ value, figure }, i) => (
            <tr key={value}>
              <td className="clip" style={{ maxWidth: "6rem" }}>
                {value || <span className="soft">not told</span>}
              </td>
              <td className="n">{count(figure?.count ?? 0)}</td>
              <td title={figure ? intervalWords(figure, timed) : ""}>
                {figure && !timed && <ShareCell share={figure} most={most} />}
                {figure && timed && sideWords(figure, true)}
              </td>
              <td className="small-text">
                {i > 0 && (
                  <button
                    type="button"
                    className="figure-button"
                    title={`Compare with ${points[0]?.value || "not told"}`}
                    onClick={() => change({ versus: `${points[0]?.value}\n${value}` })}
                  >
                    beside
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
      {trend.left_out > 0 && (
        <p className="small-text soft mb-1">{count(trend.left_out, "smaller group")} not shown.</p>
      )}
      {between && (
        <p className="small-text mb-1" data-testid="difference">
          {one || "not told"} less {other || "not told"}: {says(between.difference)}{" "}
          <span className="soft">
            (95 %: {says(between.low)} to {says(between.high)})
          </span>
        </p>
      )}
    </>
  );
}
