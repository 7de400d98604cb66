import type { Schemas } from "../api/client";
import { count, duration, percent, short, signed, signedTime } from "../format";
import { DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

type Compared = Schemas["Compared"];

interface Props {
  rows: Compared[];
  /** What a row's first group is called, and its second. */
  names: [string, string];
  viewOf: (row: Compared) => string;
  /** What a row is known by. */
  keyOf: (row: Compared) => string;
  chosen: string | null;
  onChoose: (key: string) => void;
}

const TALL = 42;
const HEAD = 26;

export function valueWords(row: Compared, value: number): string {
  return row.timed ? duration(value) : percent(value);
}

export function gapWords(row: Compared, value: number): string {
  return row.timed ? signedTime(value) : signed(value);
}

/** How the first group does against the second, where more or less of it is worse. */
export function verdict({ worse, gap }: Pick<Compared, "worse" | "gap">): "worse" | "better" | "" {
  const bad = worse * gap.difference;
  return bad > 0 ? "worse" : bad < 0 ? "better" : "";
}

const COLOURS = { worse: "var(--rust)", better: "var(--moss)", "": "var(--stone)" };

/** A difference as a part of the second value where it is a time, so that all have one axis. */
function onAxis({ timed, other }: Compared, value: number): number {
  return timed ? value / Math.max(other.value, 1) : value;
}

/** Two groups, a line for each figure: both values, and their difference with its interval. */
export function Beside({ rows, names, viewOf, keyOf, chosen, onChoose }: Props) {
  const [box, wide] = useWidth<HTMLDivElement>(1060);
  const words = Math.max(wide * 0.36, 190);
  const one = words + 62;
  const other = one + 66;
  const track = { from: other + 14, to: other + 14 + (wide - other) * 0.32 };
  const gaps = { from: track.to + 26, to: wide - 96 };
  const letters = Math.floor(words / 6.6);
  const most = Math.min(
    Math.max(...rows.map((row) => Math.abs(onAxis(row, row.gap.difference))), 0.02) * 1.25,
    1,
  );
  const middle = (gaps.from + gaps.to) / 2;
  const at = (value: number) =>
    middle + (Math.max(Math.min(value / most, 1), -1) * (gaps.to - gaps.from)) / 2;
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each line in it names itself */}
      <svg className="chart d-block" width={wide} height={HEAD + rows.length * TALL + 4}>
        <g fontSize={12} className="soft-text">
          <text x={one} y={16} textAnchor="end">{`● ${short(names[0], 10)}`}</text>
          <text x={other} y={16} textAnchor="end">{`○ ${short(names[1], 10)}`}</text>
          <text x={track.from} y={16}>
            each line on its own scale from 0
          </text>
          <text x={middle} y={16} textAnchor="middle">
            {`${short(names[0], 10)} less ${short(names[1], 10)}`}
          </text>
        </g>
        <line
          x1={middle}
          x2={middle}
          y1={HEAD - 4}
          y2={HEAD + rows.length * TALL}
          stroke="var(--stone)"
        />
        {rows.map((row, i) => {
          const y = HEAD + i * TALL;
          const line = y + TALL / 2;
          const top = Math.max(row.one.high, row.other.high, 1e-9);
          const x = (value: number) => track.from + (value / top) * (track.to - track.from);
          const told = verdict(row);
          const colour = row.beyond ? COLOURS[told] : "var(--stone)";
          const like = row.like && gapWords(row, row.like.difference);
          return (
            <DrawnFigure
              key={keyOf(row)}
              figure={keyOf(row)}
              said={`${row.says}, of ${row.of}: ${valueWords(row, row.one.value)} of ${count(row.one.of)} in ${names[0]}, ${valueWords(row, row.other.value)} of ${count(row.other.of)} in ${names[1]}${told && `, ${told}`}`}
              chosen={chosen}
              onChoose={onChoose}
            >
              <rect
                className="ground"
                x={0}
                y={y}
                width={wide}
                height={TALL - 2}
                fill="transparent"
              />
              <text x={2} y={line - 3} fontSize={13}>
                {short(row.says, letters)}
              </text>
              <text x={2} y={line + 13} fontSize={12} className="soft-text">
                {short(`${viewOf(row)} · of ${row.of}`, letters + 4)}
              </text>
              <text x={one} y={line + 4} fontSize={13} textAnchor="end" fontWeight={600}>
                {valueWords(row, row.one.value)}
              </text>
              <text x={other} y={line + 4} fontSize={13} textAnchor="end">
                {valueWords(row, row.other.value)}
              </text>
              <line x1={track.from} x2={track.to} y1={line} y2={line} stroke="var(--line)" />
              <line
                x1={x(row.one.value)}
                x2={x(row.other.value)}
                y1={line}
                y2={line}
                stroke={colour}
                strokeWidth={4}
                opacity={0.5}
              />
              <circle
                cx={x(row.other.value)}
                cy={line}
                r={5}
                fill="var(--bs-body-bg)"
                stroke={colour}
                strokeWidth={2}
              />
              <circle cx={x(row.one.value)} cy={line} r={5.5} fill={colour} />
              <line
                x1={at(onAxis(row, row.gap.low))}
                x2={at(onAxis(row, row.gap.high))}
                y1={line}
                y2={line}
                stroke={colour}
                strokeWidth={2}
              />
              <rect
                x={at(onAxis(row, row.gap.difference)) - 2}
                y={line - 6}
                width={4}
                height={12}
                fill={colour}
              />
              <text
                x={gaps.to + 8}
                y={line - 2}
                fontSize={13}
                fill={colour}
                fontWeight={row.beyond ? 600 : 400}
              >
                {gapWords(row, row.gap.difference)} {row.beyond && told}
              </text>
              {like && (
                <text
                  x={gaps.to + 8}
                  y={line + 13}
                  fontSize={12}
                  className={row.disagree ? "" : "soft-text"}
                  fill={row.disagree ? "var(--heather)" : undefined}
                >
                  {row.disagree ? `but alike ${like}` : `alike ${like}`}
                </text>
              )}
            </DrawnFigure>
          );
        })}
      </svg>
    </div>
  );
}
