import type { DropOffFigures } from "../api/client";
import { count, short, shownName } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { Legend } from "./Legend";
import { useWidth } from "./useWidth";

interface Props extends Choosing {
  screens: DropOffFigures["screens"];
}

const ROW = 24;
const NAME = 168;
const SAID = 150;

/** Per screen the exits found, against a post where they were to be expected. */
export function ExitBars({ screens, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(760);
  const most = Math.max(...screens.map((one) => Math.max(one.true.times, one.expected)), 1);
  const x = (n: number) => NAME + (n / most) * Math.max(width - NAME - SAID, 80);
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each bar in it names itself */}
      <svg className="chart d-block" width={width} height={screens.length * ROW + 26}>
        <Legend
          x={NAME}
          y={12}
          colours={[
            ["true exits, as expected", "var(--stone-light)"],
            ["beyond it", "var(--rust)"],
            ["the post: as many are expected", "var(--ink)"],
          ]}
        />
        {screens.map((one, i) => {
          const [found, post] = [one.true.times, one.expected];
          const y = 22 + i * ROW;
          const said = `${one.screen}: ${count(found)} true exits, where ${count(Math.round(post))} are to be expected`;
          return (
            <DrawnFigure
              key={one.screen}
              figure={one.true.figure}
              said={said}
              chosen={chosen}
              onChoose={onChoose}
            >
              <rect x={0} y={y} width={width} height={ROW} fill="transparent" />
              <text x={0} y={y + 16} fontSize={13.5} className="label">
                {short(shownName(one.screen), 23)}
              </text>
              <rect
                className="edge"
                x={x(0)}
                y={y + 5}
                width={Math.max(x(Math.min(found, post)) - x(0), 1)}
                height={13}
                fill="var(--stone-light)"
              />
              {found > post && (
                <rect
                  className="edge"
                  x={x(post)}
                  y={y + 5}
                  width={x(found) - x(post)}
                  height={13}
                  fill="var(--rust)"
                />
              )}
              {post > found && (
                <line
                  x1={x(found)}
                  x2={x(post)}
                  y1={y + 11.5}
                  y2={y + 11.5}
                  stroke="var(--stone)"
                  strokeDasharray="2 3"
                />
              )}
              <line
                x1={x(post)}
                x2={x(post)}
                y1={y + 2}
                y2={y + 21}
                stroke="var(--ink)"
                strokeWidth={2}
              />
              <text x={x(Math.max(found, post)) + 8} y={y + 16} fontSize={13}>
                <tspan fontWeight={650}>{count(found)}</tspan>
                <tspan opacity={0.8}> for {count(Math.round(post))} expected</tspan>
              </text>
            </DrawnFigure>
          );
        })}
      </svg>
    </div>
  );
}
