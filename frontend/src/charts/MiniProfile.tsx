import { bands } from "./grounds";
import { useTabs } from "./tabs";

interface Props {
  depths: number[];
  grounds: string[];
  width: number;
  height: number;
}

/** A journey's profile, small: depth going up, the ground coloured by tab. */
export function MiniProfile({ depths, grounds, width, height }: Props) {
  const colourOf = useTabs();
  const deepest = Math.max(3, ...depths);
  const step = width / Math.max(depths.length, 1);
  const up = (depth: number) => height - 2 - (depth / deepest) * (height - 6);
  const line = depths
    .map((depth, i) => `${i ? "L" : "M"}${i * step},${up(depth)}H${(i + 1) * step}`)
    .join("");
  const sheets = grounds.map((ground, i) => ({ ground, i })).filter((g) => g.ground === "sheet");
  return (
    <svg width={width} height={height} aria-hidden="true" className="chart">
      {bands(grounds).map((band) => (
        <rect
          key={band.from}
          x={band.from * step}
          width={(band.to - band.from + 1) * step}
          height={height}
          fill={colourOf(band.ground)}
        />
      ))}
      {depths.length > 0 && (
        <>
          <path d={`${line}V${height}H0Z`} fill="var(--moss)" opacity={0.16} />
          <path d={line} fill="none" stroke="var(--moss)" strokeWidth={1.3} />
        </>
      )}
      {sheets.map(({ i }) => (
        <path
          key={i}
          d={`M${i * step},${up(depths[i] ?? 0)}H${(i + 1) * step}`}
          stroke="var(--heather)"
          strokeWidth={3}
        />
      ))}
    </svg>
  );
}
