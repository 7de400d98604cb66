import type { Count, TabFigures } from "../api/client";
import { count, duration, short } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

interface Props extends Choosing {
  found: TabFigures;
  /** Times, or users. */
  counted: (own: Count) => number;
}

const HEAD = 40;
const ROW = 34;
const NAME = 116;
const CELL = 84;
/** The room that what is said of stays takes. */
const SAYS = 318;

/** Switches from the tab of the line to that of the column; beside it, how long visits last. */
export function TabMatrix({ found, counted, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(800);
  const names = found.tabs.map((tab) => tab.name);
  const cell = Math.max(Math.min(CELL, (width - NAME - 200) / Math.max(names.length, 1)), 44);
  const most = Math.max(...found.switches.map((way) => counted(way.count)), 1);
  const longest = Math.max(...found.tabs.map((tab) => tab.dwell?.third ?? 0), 1);
  const strip = NAME + names.length * cell + 34;
  const along = (ms: number) => strip + (ms / longest) * Math.max(width - strip - 20, 80);
  const room = Math.floor(cell / 7.6);
  return (
    <div ref={box} style={{ overflowX: "auto" }}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each cell in it names itself */}
      <svg
        className="chart d-block"
        width={Math.max(width, strip + 100)}
        height={HEAD + names.length * ROW + 6}
      >
        <text x={0} y={14} fontSize={12} opacity={0.75}>
          from ↓ to →
        </text>
        {names.map((name, j) => (
          <text
            key={name}
            x={NAME + (j + 0.5) * cell}
            y={HEAD - 8}
            fontSize={13}
            textAnchor="middle"
          >
            {short(name, room)}
          </text>
        ))}
        <text x={Math.max(Math.min(strip, width - SAYS), NAME)} y={14} fontSize={12} opacity={0.75}>
          stay: half of the visits in the band, the middle one at the stroke
        </text>
        {[0, longest / 2, longest].map((ms) => (
          <g key={ms} opacity={0.75}>
            <line
              x1={along(ms)}
              x2={along(ms)}
              y1={HEAD - 2}
              y2={HEAD + names.length * ROW}
              stroke="var(--line)"
            />
            <text x={along(ms)} y={HEAD - 8} fontSize={12} textAnchor="middle">
              {ms ? duration(ms) : "0"}
            </text>
          </g>
        ))}
        {found.tabs.map((tab, i) => {
          const y = HEAD + i * ROW;
          return (
            <g key={tab.name}>
              <text x={0} y={y + 21} fontSize={13.5}>
                {short(tab.name, 15)}
              </text>
              {names.map((other, j) => (
                <Cell
                  key={other}
                  way={found.switches.find((w) => w.start === tab.name && w.end === other)}
                  counted={counted}
                  same={other === tab.name}
                  most={most}
                  x={NAME + j * cell}
                  y={y}
                  width={cell}
                  chosen={chosen}
                  onChoose={onChoose}
                />
              ))}
              {tab.dwell && (
                <g>
                  <title>{`half stay ${duration(tab.dwell.first)} to ${duration(tab.dwell.third)}`}</title>
                  <rect
                    x={along(tab.dwell.first)}
                    y={y + 11}
                    width={Math.max(along(tab.dwell.third) - along(tab.dwell.first), 1)}
                    height={12}
                    fill="var(--ochre)"
                    opacity={0.45}
                  />
                  <line
                    x1={along(tab.dwell.median)}
                    x2={along(tab.dwell.median)}
                    y1={y + 7}
                    y2={y + 27}
                    stroke="var(--ochre)"
                    strokeWidth={2.5}
                  />
                  <text x={along(tab.dwell.median) + 6} y={y + 22} fontSize={12.5}>
                    {duration(tab.dwell.median)}
                  </text>
                </g>
              )}
            </g>
          );
        })}
      </svg>
    </div>
  );
}

interface CellProps extends Choosing {
  way: TabFigures["switches"][number] | undefined;
  counted: (own: Count) => number;
  same: boolean;
  most: number;
  x: number;
  y: number;
  width: number;
}

function Cell({ way, counted, same, most, x, y, width, chosen, onChoose }: CellProps) {
  const middle = x + width / 2;
  if (!way) {
    return (
      <text x={middle} y={y + 21} fontSize={13} textAnchor="middle" opacity={0.5}>
        {same ? "·" : "–"}
      </text>
    );
  }
  const strong = 0.06 + (counted(way.count) / most) * 0.6;
  return (
    <DrawnFigure
      figure={way.count.figure}
      said={`${way.start} to ${way.end}: ${count(way.count.times, "time")}`}
      chosen={chosen}
      onChoose={onChoose}
    >
      <rect
        className="edge"
        x={x + 1.5}
        y={y + 1.5}
        width={width - 3}
        height={ROW - 3}
        rx={3}
        fill="var(--ochre)"
        fillOpacity={strong}
      />
      <text x={middle} y={y + 21} fontSize={13.5} textAnchor="middle" className="label">
        {count(counted(way.count))}
      </text>
    </DrawnFigure>
  );
}
