import type { Schemas } from "../api/client";
import { percent } from "../format";

interface Props {
  share: Schemas["Share"];
  /** The share that fills the whole width. */
  most: number;
  colour?: string;
}

const WIDE = 90;

/** A share as a bar, with its 95 % interval as a whisker, and in figures. */
export function ShareCell({ share, most, colour = "var(--moss)" }: Props) {
  if (!share.of) {
    return <span className="soft">–</span>;
  }
  const own = share.count / share.of;
  const at = (value: number) => Math.min(value / Math.max(most, 1e-9), 1) * WIDE;
  const said = `${percent(own)}; 95 %: ${percent(share.low)} to ${percent(share.high)}`;
  return (
    <span className="d-inline-flex align-items-center gap-2" title={said}>
      <svg width={WIDE + 2} height={14} aria-hidden="true">
        <rect x={0} y={3} width={at(own)} height={8} fill={colour} opacity={0.75} />
        <line
          x1={at(share.low)}
          x2={at(share.high)}
          y1={7}
          y2={7}
          stroke="var(--bs-body-color)"
          strokeWidth={1.2}
        />
      </svg>
      <span className="text-nowrap">{percent(own)}</span>
    </span>
  );
}
