import { Fragment, type ReactNode } from "react";
import type { Schemas } from "../api/client";
import { count, duration, percent, short } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

type Share = Schemas["Share"];

export interface TrackStage {
  figure: string;
  word: string;
  count: number;
  of_first: Share;
  of_previous: Share;
  time_to: Schemas["Quartiles"] | null;
  losses: TrackLoss[];
}

/** Where some went who got no further; `way` gives the colour. */
export interface TrackLoss {
  figure: string;
  way: string;
  words: string;
  share: Share;
}

/** What stands on the track to change it: over a stage, and where another may come in. */
export interface TrackTools {
  stage: (i: number) => ReactNode;
  insert: (at: number) => ReactNode;
}

interface Props extends Choosing {
  stages: TrackStage[];
  tools?: TrackTools;
}

const HEAD = 62;
/** Room for a stage to come in at the end. */
const LAST = 110;
const TALL = 150;
const LOSS_ROW = 36;
const GAP_SHARE = 0.62;
const MOST_LOSSES = 4;

const LOSS_COLOURS: Record<string, string> = {
  ended: "var(--rust)",
  back: "var(--tarn)",
  recovery: "var(--ochre)",
  sign_up: "var(--moss)",
  elsewhere: "var(--stone)",
};

/** A track that narrows from stage to stage; what leaves it branches off in its true width. */
export function FunnelTrack(props: Props) {
  const { stages, tools, chosen, onChoose } = props;
  const [box, whole] = useWidth<HTMLDivElement>(800);
  const width = whole - (tools ? LAST : 0);
  const first = Math.max(stages[0]?.count ?? 0, 1);
  const tall = (n: number) => (n / first) * TALL;
  const block = width / (stages.length + (stages.length - 1) * GAP_SHARE);
  const x = (i: number) => i * block * (1 + GAP_SHARE);
  const most = Math.max(...stages.map((s) => Math.min(s.losses.length, MOST_LOSSES + 1)), 1);
  const height = HEAD + TALL + 34 + most * LOSS_ROW;
  const slowest = Math.max(...stages.map((stage) => stage.time_to?.third ?? 0), 1);
  return (
    <div ref={box}>
      {tools && (
        <div className="track-tools">
          {stages.map((stage, i) => (
            <Fragment key={stage.figure}>
              <div style={{ width: block }}>{tools.stage(i)}</div>
              <div style={{ width: i + 1 < stages.length ? block * GAP_SHARE : LAST }}>
                {tools.insert(i + 1)}
              </div>
            </Fragment>
          ))}
        </div>
      )}
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each figure in it names itself */}
      <svg className="chart d-block" width={width} height={height}>
        {stages.map((stage, i) => {
          const next = stages[i + 1];
          return (
            <g key={stage.figure}>
              {next && (
                <>
                  <rect
                    x={x(i) + block}
                    y={HEAD}
                    width={x(i + 1) - x(i) - block}
                    height={tall(next.count)}
                    fill="var(--moss-wash)"
                  />
                  <TimeStrip
                    quartiles={next.time_to}
                    slowest={slowest}
                    x={x(i) + block + 8}
                    width={x(i + 1) - x(i) - block - 22}
                  />
                </>
              )}
              <Branches
                losses={stage.losses}
                room={block * (1 + GAP_SHARE)}
                x={x(i) + block}
                from={HEAD + tall(next?.count ?? stage.count)}
                tall={tall}
                chosen={chosen}
                onChoose={onChoose}
              />
              <StageBlock
                stage={stage}
                first={i === 0}
                last={!next}
                goOn={next ? next.of_previous : null}
                word={short(stage.word, Math.max(Math.floor((block * (next ? 1.5 : 1)) / 8), 6))}
                x={x(i)}
                width={block}
                height={tall(stage.count)}
                chosen={chosen}
                onChoose={onChoose}
              />
            </g>
          );
        })}
      </svg>
    </div>
  );
}

interface BlockProps extends Choosing {
  stage: TrackStage;
  first: boolean;
  last: boolean;
  goOn: Share | null;
  word: string;
  x: number;
  width: number;
  height: number;
}

function StageBlock({
  stage,
  first,
  last,
  goOn,
  word,
  x,
  width,
  height,
  chosen,
  onChoose,
}: BlockProps) {
  const share = stage.of_first;
  const inside = height > 40 && width > 120;
  const said = goOn && stage.count > 0 ? `${percent(goOn.count / goOn.of)} go on` : null;
  return (
    <DrawnFigure
      figure={stage.figure}
      said={`${word}: ${count(stage.count)}`}
      chosen={chosen}
      onChoose={onChoose}
    >
      <rect x={x} y={0} width={width} height={HEAD} fill="transparent" />
      <text x={x} y={20} fontSize={15} fontWeight={650} className="label">
        {word}
      </text>
      <text x={x} y={46} fontSize={21} fontWeight={650} data-testid={`count-${stage.figure}`}>
        {count(stage.count)}
      </text>
      {!first && share.of > 0 && (
        <text x={x + 12 + 11.5 * count(stage.count).length} y={46} fontSize={14} opacity={0.8}>
          {percent(share.count / share.of)}
        </text>
      )}
      <rect
        x={x}
        y={HEAD}
        width={width}
        height={Math.max(height, 1.5)}
        fill="var(--moss)"
        className="edge"
      />
      {inside && said && (
        <>
          <text x={x + 9} y={HEAD + 20} fontSize={14} style={{ fill: "var(--bs-body-bg)" }}>
            {said}
          </text>
          <text x={x + 9} y={HEAD + 37} fontSize={12} style={{ fill: "var(--bs-body-bg)" }}>
            {goOn && `95 %: ${percent(goOn.low)} to ${percent(goOn.high)}`}
          </text>
        </>
      )}
      {inside && last && share.of > 0 && (
        <text x={x + 9} y={HEAD + 20} fontSize={12} style={{ fill: "var(--bs-body-bg)" }}>
          {`95 %: ${percent(share.low)} to ${percent(share.high)}${width > 190 ? " of all" : ""}`}
        </text>
      )}
    </DrawnFigure>
  );
}

interface StripProps {
  quartiles: TrackStage["time_to"];
  slowest: number;
  x: number;
  width: number;
}

/** Half of the times lie in the box, the middle one at the stroke. */
function TimeStrip({ quartiles, slowest, x, width }: StripProps) {
  if (!quartiles || width < 40) {
    return null;
  }
  const at = (value: number) => x + (value / slowest) * width;
  const { first: low, median: middle, third: high } = quartiles;
  const words = `half take ${duration(low)} to ${duration(high)}, the middle ${duration(middle)}`;
  return (
    <g>
      <title>{words}</title>
      <line x1={x} x2={x + width} y1={46} y2={46} stroke="var(--line)" strokeWidth={1.5} />
      <rect
        x={at(low)}
        y={41}
        width={Math.max(at(high) - at(low), 2)}
        height={10}
        fill="var(--ochre)"
        opacity={0.4}
      />
      <line x1={at(middle)} x2={at(middle)} y1={38} y2={54} stroke="var(--ochre)" strokeWidth={2} />
      <text x={at(middle)} y={33} fontSize={12} textAnchor="middle">
        {duration(middle)}
      </text>
    </g>
  );
}

interface BranchProps extends Choosing {
  losses: TrackLoss[];
  /** How wide a label may be. */
  room: number;
  x: number;
  from: number;
  tall: (n: number) => number;
}

function Branches({ losses: all, room, x, from, tall, chosen, onChoose }: BranchProps) {
  const losses = all.slice(0, MOST_LOSSES);
  const rest = all.slice(MOST_LOSSES);
  let above = from;
  // Innermost the last and lowest: so the bands never cross.
  const reach = 26 + losses.reduce((sum, loss) => sum + tall(loss.share.count), 0);
  let inner = 0;
  const branches = losses.map((loss, i) => {
    const thick = Math.max(tall(loss.share.count), 1.2);
    const start = above + thick / 2;
    above += thick;
    const y = HEAD + TALL + 44 + i * LOSS_ROW;
    const bend = x + reach - inner - thick / 2 - 14;
    inner += thick;
    const end = x + reach + 4;
    const radius = Math.min(10 + thick / 2, bend - x);
    const path = `M${x - 1},${start}H${bend - radius}Q${bend},${start} ${bend},${start + radius}V${y - radius}Q${bend},${y} ${bend + radius},${y}H${Math.max(end, bend + radius + 2)}`;
    const label = Math.max(end, bend + radius + 2) + 6;
    const words = loss.words;
    return (
      <DrawnFigure
        key={loss.figure}
        figure={loss.figure}
        said={`${words}: ${count(loss.share.count)}`}
        chosen={chosen}
        onChoose={onChoose}
      >
        <path
          d={path}
          fill="none"
          stroke={LOSS_COLOURS[loss.way] ?? "var(--stone)"}
          strokeWidth={thick}
          opacity={0.75}
        />
        <rect x={label - 4} y={y - 16} width={190} height={34} fill="transparent" />
        <text x={label} y={y - 2} fontSize={13.5} className="label">
          {short(words, Math.max(Math.floor((room - (label - x)) / 7), 8))}
        </text>
        <text x={label} y={y + 14} fontSize={13}>
          <tspan fontWeight={650}>{count(loss.share.count)}</tspan>
          <tspan dx={6} opacity={0.8}>
            {percent(loss.share.count / loss.share.of)}
          </tspan>
        </text>
      </DrawnFigure>
    );
  });
  if (!rest.length) {
    return branches;
  }
  const others = rest.reduce((sum, loss) => sum + loss.share.count, 0);
  const y = HEAD + TALL + 44 + MOST_LOSSES * LOSS_ROW;
  return (
    <>
      {branches}
      <text x={x + reach + 10} y={y - 2} fontSize={13} opacity={0.8}>
        {`${count(others)} more, in ${count(rest.length, "way")}`}
      </text>
    </>
  );
}
