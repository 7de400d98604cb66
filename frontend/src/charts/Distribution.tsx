import type { StartFigures } from "../api/client";
import { count, duration } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

type Bin = StartFigures["bins"][number];

interface Props extends Choosing {
  bins: Bin[];
  /** Milliseconds from which a start is slow. */
  slow: number;
  figureOf: (bin: Bin) => string;
}

const TALL = 150;
const BASE = TALL + 14;
const SHORTEST = 100;
const LONGEST = 60_000;
const TICKS = [100, 200, 500, 1000, 2000, 5000, 10_000, 20_000, 60_000];

/** Times on a scale of ratios: those that landed stand up, those that left hang down. */
export function Distribution({ bins, slow, chosen, figureOf, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(700);
  const wide = Math.max(width - 20, 100);
  const x = (ms: number) => {
    const held = Math.min(Math.max(ms, SHORTEST * 0.8), LONGEST * 1.25);
    return (
      8 + (Math.log(held / (SHORTEST * 0.8)) / Math.log((LONGEST * 1.25) / (SHORTEST * 0.8))) * wide
    );
  };
  const most = Math.max(...bins.map((bin) => bin.landed), 1);
  const mostLeft = Math.max(...bins.map((bin) => bin.left), 0);
  const down = Math.max((mostLeft / most) * TALL, mostLeft ? 6 : 0);
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each bar in it names itself */}
      <svg className="chart d-block" width={width} height={BASE + down + 30}>
        {bins
          .filter((bin) => bin.landed || bin.left)
          .map((bin) => {
            const [from, to] = [x(bin.low || SHORTEST * 0.8), x(bin.high ?? LONGEST * 1.25)];
            const up = (bin.landed / most) * TALL;
            const below = (bin.left / most) * TALL;
            const figure = figureOf(bin);
            const range = bin.high
              ? `${duration(bin.low)} to ${duration(bin.high)}`
              : `${duration(bin.low)} or longer`;
            const said = `${range}: ${count(bin.landed)} landed, ${count(bin.left)} left`;
            return (
              <DrawnFigure
                key={bin.cell}
                figure={figure}
                said={said}
                chosen={chosen}
                onChoose={onChoose}
              >
                <rect
                  x={from}
                  y={0}
                  width={Math.max(to - from, 1)}
                  height={BASE + down}
                  fill="transparent"
                />
                <rect
                  className="edge"
                  x={from + 0.5}
                  y={BASE - up}
                  width={Math.max(to - from - 1, 1)}
                  height={up}
                  fill={bin.low >= slow ? "var(--ochre)" : "var(--moss)"}
                />
                {bin.left > 0 && (
                  <rect
                    className="edge"
                    x={from + 0.5}
                    y={BASE + 1}
                    width={Math.max(to - from - 1, 1)}
                    height={Math.max(below, 1.5)}
                    fill="var(--rust)"
                  />
                )}
              </DrawnFigure>
            );
          })}
        <line x1={0} x2={width} y1={BASE} y2={BASE} stroke="var(--bs-body-color)" />
        <line
          x1={x(slow)}
          x2={x(slow)}
          y1={0}
          y2={BASE + down}
          stroke="var(--ochre)"
          strokeWidth={1.5}
          strokeDasharray="4 3"
        />
        <text x={x(slow) + 6} y={12} fontSize={12}>
          slow from {duration(slow)}
        </text>
        {TICKS.map((tick) => (
          <text key={tick} x={x(tick)} y={BASE + down + 18} fontSize={12} textAnchor="middle">
            {duration(tick)}
          </text>
        ))}
      </svg>
    </div>
  );
}
