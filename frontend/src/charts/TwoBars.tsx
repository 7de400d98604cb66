import type { Schemas } from "../api/client";
import { short } from "../format";
import { intervalWords, sideWords } from "./TrendLine";

type Side = Schemas["Side"];

interface Props {
  own: Side;
  beside: Side;
  /** What each is called. */
  names: [string, string];
  timed: boolean;
}

const WIDE = 334;
const LABEL = 142;
const ROW = 20;

/** A finding in small: its value, and what it is held against, on one scale from 0. */
export function TwoBars({ own, beside, names, timed }: Props) {
  const top = Math.max(own.high, own.value, beside.high, beside.value, 1e-9);
  const x = (value: number) => (value / top) * (WIDE - LABEL - 62);
  const said = `${names[0]}: ${sideWords(own, timed)}, 95 %: ${intervalWords(own, timed)}; ${names[1]}: ${sideWords(beside, timed)}`;
  return (
    <svg className="chart flex-shrink-0" width={WIDE} height={2 * ROW + 4} role="img">
      <title>{said}</title>
      {[own, beside].map((side, i) => (
        <g key={names[i]} transform={`translate(0 ${i * ROW})`}>
          <text x={LABEL - 8} y={15} fontSize={12} textAnchor="end" className="soft-text">
            {short(names[i] ?? "", 23)}
          </text>
          <rect
            x={LABEL}
            y={4}
            width={Math.max(x(side.value), 1)}
            height={13}
            fill={i ? "var(--stone-light)" : "var(--rust)"}
            opacity={i ? 0.8 : 0.85}
          />
          {side.of > 0 && (
            <line
              x1={LABEL + x(side.low)}
              x2={LABEL + x(side.high)}
              y1={10.5}
              y2={10.5}
              stroke="var(--ink)"
              strokeWidth={1.2}
            />
          )}
          <text
            x={LABEL + x(side.of ? Math.max(side.high, side.value) : side.value) + 6}
            y={15}
            fontSize={13}
            fontWeight={i ? 400 : 600}
          >
            {sideWords(side, timed)}
          </text>
        </g>
      ))}
    </svg>
  );
}
