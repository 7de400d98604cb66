import type { Count } from "../api/client";
import { count, percent, short } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { Legend } from "./Legend";
import { useWidth } from "./useWidth";

export interface LinkLine {
  name: string;
  /** What opens all of them. */
  opened: Count;
  /** What they led to, and what came then, each by its way. */
  landed: [string, Count][];
  after: [string, Count][];
}

interface Props extends Choosing {
  lines: LinkLine[];
  /** Ways in words. */
  words: Record<string, string>;
  /** Times, or users. */
  counted: (own: Count) => number;
}

const ROW = 52;
const BAR = 19;
const GAP = 56;
const HEAD = 42;

const COLOURS: Record<string, string> = {
  target: "var(--moss)",
  recovered: "var(--tarn)",
  fallback: "var(--stone)",
  not_found: "var(--rust)",
  lost: "url(#lost-there)",
  nothing: "var(--ochre)",
  stayed: "var(--moss)",
  returned: "var(--tarn)",
  parent: "var(--heather)",
  back_out: "var(--ochre)",
  bounced: "var(--rust)",
};

/** A line for each kind of link: all that were opened by what they led to, then by what came. */
export function LinkTracks({ lines, words, counted, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(860);
  const wide = (width - GAP) / 2;
  const sum = (parts: [string, Count][]) => parts.reduce((n, [, own]) => n + counted(own), 0);
  const legend = (parts: [string, Count][][]) => {
    const seen = new Set(parts.flat().flatMap(([way, own]) => (own.times ? [way] : [])));
    const ways = Object.keys(COLOURS).filter((way) => seen.has(way));
    return ways.map((way): [string, string] => [words[way] ?? way, COLOURS[way] ?? ""]);
  };
  const most = Math.max(
    ...lines.map((line) => Math.max(counted(line.opened), sum(line.after), sum(line.landed))),
    1,
  );
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each part in it names itself */}
      <svg className="chart d-block" width={width} height={HEAD + lines.length * ROW}>
        <pattern id="lost-there" width={5} height={5} patternUnits="userSpaceOnUse">
          <rect width={5} height={5} fill="var(--rust)" />
          <path d="M-1,6L6,-1" stroke="var(--bs-body-bg)" strokeWidth={1.4} />
        </pattern>
        <text x={0} y={12} fontSize={12} opacity={0.75}>
          opened, and led to
        </text>
        <Legend x={124} y={12} colours={legend(lines.map((line) => line.landed))} />
        <text x={0} y={31} fontSize={12} opacity={0.75}>
          after landing
        </text>
        <Legend x={124} y={31} colours={legend(lines.map((line) => line.after))} />
        {lines.map((line, i) => {
          const y = HEAD + i * ROW;
          const [opened, landed] = [sum(line.landed), sum(line.after)];
          const scale = wide / most;
          return (
            <g key={line.name}>
              <text x={0} y={y + 15} fontSize={13.5}>
                <tspan fontWeight={650}>{short(line.name, Math.floor(wide / 9))}</tspan>
                <tspan dx={8} opacity={0.8}>
                  {count(counted(line.opened))}
                </tspan>
              </text>
              {opened > 0 && landed > 0 && (
                <path
                  d={`M${opened * scale + 4},${y + 21 + BAR / 2}H${wide + GAP - 9}l-6,-4m6,4l-6,4`}
                  fill="none"
                  stroke="var(--stone-light)"
                  strokeWidth={1.5}
                />
              )}
              <Bar
                parts={line.landed}
                x={0}
                y={y + 21}
                scale={scale}
                {...{ words, counted, chosen, onChoose }}
              />
              <Bar
                parts={line.after}
                x={wide + GAP}
                y={y + 21}
                scale={scale}
                {...{ words, counted, chosen, onChoose }}
              />
            </g>
          );
        })}
      </svg>
    </div>
  );
}

interface BarProps extends Choosing {
  parts: [string, Count][];
  words: Record<string, string>;
  counted: (own: Count) => number;
  x: number;
  y: number;
  scale: number;
}

/** Parts of a whole, side by side in their true widths; those with room say what they are. */
function Bar({ parts, words, counted, x, y, scale, chosen, onChoose }: BarProps) {
  const total = parts.reduce((n, [, own]) => n + counted(own), 0);
  let at = x;
  return parts.map(([way, own]) => {
    const n = counted(own);
    const wide = n * scale;
    const from = at;
    at += wide;
    const word = words[way] ?? way;
    const said = `${word} ${percent(n / total)}`;
    const room = wide / 6.8;
    return (
      n > 0 && (
        <DrawnFigure
          key={way}
          figure={own.figure}
          said={`${word}: ${count(n)} (${percent(n / total)})`}
          chosen={chosen}
          onChoose={onChoose}
        >
          <rect
            className="edge"
            x={from}
            y={y}
            width={Math.max(wide - 1, 1)}
            height={BAR}
            fill={COLOURS[way]}
          />
          {room > word.length + 1 && (
            <text x={from + 6} y={y + 14} fontSize={12} style={{ fill: "var(--bs-body-bg)" }}>
              {room > said.length + 1 ? said : word}
            </text>
          )}
        </DrawnFigure>
      )
    );
  });
}
