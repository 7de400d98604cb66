import { scaleLinear, scaleUtc } from "d3-scale";
import { area, line } from "d3-shape";
import type { Schemas } from "../api/client";
import { count, date, duration, percent } from "../format";
import { DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

type Trend = Schemas["Trend"];
type Side = Schemas["Side"];

interface Props {
  trend: Trend;
  /** The days that each point stands for. */
  width: number;
  chosen: string | null;
  /** Opens the journeys of a day, or of a week by its first day. */
  onChoose: (day: string) => void;
}

const TALL = 104;
const LEFT = 40;
const TOP = 16;
const DAY = 86_400_000;

/** A share or a time, as the figure is. */
export function sideWords(side: Side, timed: boolean): string {
  return timed ? duration(side.value) : percent(side.value);
}

export function intervalWords(side: Side, timed: boolean): string {
  return timed
    ? `${duration(side.low)} to ${duration(side.high)}`
    : `${percent(side.low)} to ${percent(side.high)}`;
}

/** A figure over time: its line in the band of its intervals, what was released, and what changed. */
export function TrendLine({ trend, width: days, chosen, onChoose }: Props) {
  const [box, wide] = useWidth<HTMLDivElement>(380);
  const { timed } = trend;
  const known = trend.points.flatMap(({ figure, ...point }) =>
    figure ? [{ ...point, figure, at: new Date(point.value) }] : [],
  );
  const first = new Date(trend.points[0]?.value ?? 0);
  const last = new Date(trend.points.at(-1)?.value ?? 0);
  const x = scaleUtc([first, new Date(+last + days * DAY)], [LEFT, wide - 6]);
  const middle = (at: Date) => x(+at + (days * DAY) / 2);
  // Single wide intervals of quiet days do not press the line flat.
  const highs = known
    .map(({ figure }) => Math.min(figure.high, figure.value * 2.5))
    .sort((a, b) => a - b);
  const top = Math.max(...known.map(({ figure }) => figure.value), highs.at(-1) ?? 0, 1e-6);
  const y = scaleLinear([0, timed ? top : Math.min(top, 1)], [TALL + TOP, TOP]).nice(3);
  const held = (value: number) => Math.max(y(value), TOP - 4);
  type Known = (typeof known)[number];
  const band = area<Known>()
    .x(({ at }) => middle(at))
    .y0(({ figure }) => held(figure.low))
    .y1(({ figure }) => held(figure.high));
  const path = line<Known>()
    .x(({ at }) => middle(at))
    .y(({ figure }) => y(figure.value));
  const labels = x.ticks(4).filter((tick) => x(tick) < wide - 42);
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each point in it names itself */}
      <svg className="chart d-block" width={wide} height={TALL + TOP + 22}>
        {trend.points
          .filter(({ poor }) => poor)
          .map(({ value }) => (
            <rect
              key={value}
              x={x(new Date(value))}
              y={TOP}
              width={Math.max(x(+new Date(value) + days * DAY) - x(new Date(value)), 2)}
              height={TALL}
              fill="var(--stone-light)"
              opacity={0.6}
            >
              <title>{`${date(+new Date(value))}: the log is poor here`}</title>
            </rect>
          ))}
        {y.ticks(3).map((tick) => (
          <g key={tick}>
            <line x1={LEFT} x2={wide - 6} y1={y(tick)} y2={y(tick)} stroke="var(--line)" />
            <text x={LEFT - 5} y={y(tick) + 4} fontSize={11} textAnchor="end" className="soft-text">
              {timed ? duration(tick) : percent(tick)}
            </text>
          </g>
        ))}
        {labels.map((tick) => (
          <text key={+tick} x={x(tick)} y={TALL + TOP + 16} fontSize={11} className="soft-text">
            {date(+tick)}
          </text>
        ))}
        <path d={band(known) ?? ""} fill="var(--moss)" opacity={0.2} />
        <path d={path(known) ?? ""} fill="none" stroke="var(--moss)" strokeWidth={1.6} />
        {trend.releases.map(({ day, version }) => (
          <g key={version}>
            <line
              x1={x(new Date(day))}
              x2={x(new Date(day))}
              y1={TOP - 2}
              y2={TALL + TOP}
              stroke="var(--stone)"
              strokeDasharray="2 3"
            />
            <text x={x(new Date(day)) + 3} y={TOP - 5} fontSize={11} className="soft-text">
              {version}
            </text>
          </g>
        ))}
        {trend.changes.map((change, i) => {
          const at = x(new Date(change.day));
          const from = trend.changes[i - 1]?.day ?? first;
          const to = trend.changes[i + 1]?.day ?? new Date(+last + days * DAY);
          return (
            <g key={change.day} stroke="var(--rust)" strokeWidth={1.6}>
              <line x1={at} x2={at} y1={y(change.before.value)} y2={y(change.after.value)} />
              <line
                x1={x(new Date(from))}
                x2={at}
                y1={y(change.before.value)}
                y2={y(change.before.value)}
                strokeDasharray="5 3"
              />
              <line
                x1={at}
                x2={x(new Date(to))}
                y1={y(change.after.value)}
                y2={y(change.after.value)}
                strokeDasharray="5 3"
              />
            </g>
          );
        })}
        {known.map(({ value, at, figure }) => (
          <DrawnFigure
            key={value}
            figure={value}
            said={`${date(+at)}: ${sideWords(figure, timed)}, 95 %: ${intervalWords(figure, timed)}, n ${count(figure.of)}`}
            chosen={chosen}
            onChoose={onChoose}
          >
            <rect
              x={x(at)}
              y={TOP}
              width={Math.max(x(+at + days * DAY) - x(at), 1)}
              height={TALL}
              fill="transparent"
            />
            <circle
              className="edge"
              cx={middle(at)}
              cy={y(figure.value)}
              r={2.6}
              fill="var(--moss)"
            />
          </DrawnFigure>
        ))}
      </svg>
    </div>
  );
}
