import type { Count, PatternFigures } from "../api/client";
import { count, percent, short } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { Legend } from "./Legend";
import { useWidth } from "./useWidth";

interface Props extends Choosing {
  found: PatternFigures;
  /** Journeys, or users. */
  counted: (own: Count) => number;
}

const ROW = 40;
const HEAD = 24;

/** Condition by condition how many came so far, what broke off there, and how many have it all. */
export function PatternSteps({ found, counted, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(760);
  const room = Math.max(width - 220, 200);
  const long = (n: number) => (n / Math.max(found.in_scope, 1)) * room;
  const rows = found.conditions;
  const last = HEAD + rows.length * ROW;
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each bar in it names itself */}
      <svg className="chart d-block" width={width} height={last + ROW + 4}>
        <Legend
          x={0}
          y={12}
          colours={[
            ["came so far", "var(--moss)"],
            ["and no further", "var(--rust)"],
            ["in scope", "var(--line)"],
          ]}
        />
        {rows.map((one, i) => {
          const [came, broke] = [counted(one.reached), counted(one.broke_off)];
          const y = HEAD + i * ROW;
          return (
            <g key={one.start}>
              <rect x={0} y={y + 20} width={room} height={10} fill="var(--line)" opacity={0.5} />
              <DrawnFigure
                figure={one.reached.figure}
                said={`${one.words}: ${count(came)} came so far`}
                chosen={chosen}
                onChoose={onChoose}
              >
                <text x={0} y={y + 15} fontSize={13.5} className="label">
                  {`${i + 1}  ${short(one.words, Math.floor(room / 7))}`}
                </text>
                <rect
                  className="edge"
                  x={0}
                  y={y + 20}
                  width={Math.max(long(came), 1)}
                  height={10}
                  fill="var(--moss)"
                />
                <text x={room + 10} y={y + 29} fontSize={13} fontWeight={650}>
                  {count(came)}
                </text>
              </DrawnFigure>
              {broke > 0 && (
                <DrawnFigure
                  figure={one.broke_off.figure}
                  said={`${one.words}: ${count(broke)} came so far, and no further`}
                  chosen={chosen}
                  onChoose={onChoose}
                >
                  <rect
                    className="edge"
                    x={Math.max(long(came) - long(broke), 0)}
                    y={y + 22}
                    width={Math.max(long(broke), 1.5)}
                    height={6}
                    fill="var(--rust)"
                  />
                  <text x={room + 80} y={y + 29} fontSize={13} className="label">
                    {`${count(broke)} no further`}
                  </text>
                </DrawnFigure>
              )}
            </g>
          );
        })}
        <DrawnFigure
          figure={found.matches.figure}
          said={`all of it: ${count(found.met.count)}`}
          chosen={chosen}
          onChoose={onChoose}
        >
          <text x={0} y={last + 15} fontSize={13.5} fontWeight={650} className="label">
            all of it, in this order
          </text>
          <rect
            className="edge"
            x={0}
            y={last + 20}
            width={Math.max(long(found.met.count), 1)}
            height={10}
            fill="var(--moss)"
          />
          <text x={room + 10} y={last + 29} fontSize={13} fontWeight={650}>
            {`${count(found.met.count)} · ${percent(found.met.count / (found.met.of || 1))}`}
          </text>
        </DrawnFigure>
      </svg>
    </div>
  );
}
