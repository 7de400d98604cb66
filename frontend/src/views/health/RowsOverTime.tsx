import { scaleLinear } from "d3-scale";
import type { Health } from "../../api/client";
import { useWidth } from "../../charts/useWidth";
import { count, date, days, time } from "../../format";

const HEIGHT = 120;
const FOOT = 20;
const LEFT = 44;
const HOUR = 3_600_000;

/** Rows over time, with the stretches in which there should be some and are none. */
export function RowsOverTime({ health }: { health: Health }) {
  const [box, width] = useWidth<HTMLDivElement>(900);
  const { bars, gaps, first } = health;
  if (first === null) {
    return null;
  }
  const most = Math.max(...bars.rows, 1);
  const each = (width - LEFT) / bars.rows.length;
  const y = scaleLinear([0, most], [HEIGHT - FOOT, 8]).nice(3);
  const x = (moment: number) => LEFT + ((moment - first) / (bars.hours * HOUR)) * each;
  return (
    <div ref={box} className="chart my-2">
      <svg width={width} height={HEIGHT} role="img" aria-label={inWords(health)}>
        {y.ticks(3).map((tick) => (
          <g key={tick}>
            <line x1={LEFT} x2={width} y1={y(tick)} y2={y(tick)} stroke="var(--line)" />
            <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end" fontSize={12} opacity={0.75}>
              {count(tick)}
            </text>
          </g>
        ))}
        {gaps.map((gap) => (
          <rect
            key={gap.start}
            x={x(gap.start)}
            width={Math.max(x(gap.end) - x(gap.start), 3)}
            y={4}
            height={HEIGHT - FOOT - 4}
            fill="var(--rust)"
            opacity={0.18}
          >
            <title>{`no rows from ${date(gap.start)} ${time(gap.start)} to ${date(gap.end)} ${time(gap.end)}`}</title>
          </rect>
        ))}
        {bars.rows.map((rows, i) => (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: bars are told apart by their place
            key={i}
            x={LEFT + i * each + 0.5}
            width={Math.max(each - 1, 0.5)}
            y={y(rows)}
            height={HEIGHT - FOOT - y(rows)}
            fill="var(--moss)"
          >
            <title>{`${count(rows, "row")} · ${barWords(first + i * bars.hours * HOUR, bars.hours)}`}</title>
          </rect>
        ))}
        {ticks(first, bars.hours * bars.rows.length * HOUR).map((moment) => (
          <text key={moment} x={x(moment)} y={HEIGHT - 4} fontSize={12} opacity={0.75}>
            {date(moment)}
          </text>
        ))}
      </svg>
    </div>
  );
}

function barWords(start: number, hours: number): string {
  const day = `${date(start)} ${time(start)}`;
  return hours < 24 ? `${day}, ${count(hours, "hour")}` : days(start, start + (hours - 1) * HOUR);
}

/** Midnights that are evenly spread, at most eight. */
function ticks(first: number, length: number): number[] {
  const day = 24 * HOUR;
  const all = Math.floor(length / day) + 1;
  const step = Math.max(Math.ceil(all / 8), 1);
  const start = Math.ceil(first / day) * day;
  return Array.from({ length: 8 }, (_, i) => start + i * step * day).filter(
    (moment) => moment < first + length * 0.96,
  );
}

function inWords({ bars, gaps }: Health): string {
  const total = bars.rows.reduce((sum, rows) => sum + rows, 0);
  return `${count(total, "row")} over time, ${count(gaps.length, "gap")}`;
}
