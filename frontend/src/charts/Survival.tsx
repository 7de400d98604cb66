import type { DropOffFigures } from "../api/client";
import { count, percent } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

interface Props extends Choosing {
  marks: DropOffFigures["by_steps"];
  /** A mark in words, as "12 steps" or "5 min". */
  words: (mark: number) => string;
  /** Marks that are written under the drawing. */
  written: (mark: number) => boolean;
}

const TALL = 96;
const WIDEST = 30;

/** How many journeys still go on at each mark. */
export function Survival({ marks, words, written, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(760);
  const all = Math.max(marks[0]?.journeys ?? 0, 1);
  const wide = Math.min((width - 20) / Math.max(marks.length, 1), WIDEST);
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each bar in it names itself */}
      <svg className="chart d-block" width={width} height={TALL + 24}>
        {marks.map((one, i) => {
          const tall = (one.journeys / all) * TALL;
          return (
            <DrawnFigure
              key={one.mark}
              figure={one.figure}
              said={`${words(one.mark)} or more: ${count(one.journeys)} (${percent(one.journeys / all)})`}
              chosen={chosen}
              onChoose={onChoose}
            >
              <rect x={i * wide} y={0} width={wide} height={TALL} fill="transparent" />
              <rect
                className="edge"
                x={i * wide + 0.5}
                y={TALL - tall}
                width={wide - 1}
                height={tall}
                fill="var(--moss)"
                opacity={0.85}
              />
              {written(one.mark) && (
                <text x={i * wide + wide / 2} y={TALL + 16} fontSize={12} textAnchor="middle">
                  {words(one.mark)}
                </text>
              )}
            </DrawnFigure>
          );
        })}
        <line x1={0} x2={marks.length * wide} y1={TALL} y2={TALL} stroke="var(--ink)" />
      </svg>
    </div>
  );
}
