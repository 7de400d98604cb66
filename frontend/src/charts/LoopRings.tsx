import type { Count, LoopFigures } from "../api/client";
import { count, duration, short, shownName } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { useWidth } from "./useWidth";

type Loop = LoopFigures["loops"][number];

interface Props extends Choosing {
  loops: Loop[];
  kinds: Record<string, string>;
  /** Times, or users. */
  counted: (own: Count) => number;
}

const TALL = 128;
const WIDE = 285;
const RING = 34;

const COLOURS: Record<string, string> = {
  ping_pong: "var(--tarn)",
  detour: "var(--tarn)",
  piled_up: "var(--moss)",
  tab_flip: "var(--ochre)",
  by_tab: "var(--ochre)",
  redirect_loop: "var(--rust)",
  sent_again: "var(--rust)",
};
/** Beside its colour each kind has a dash: ways back are broken, redirects dotted. */
const DASHES: Record<string, string> = {
  ping_pong: "7 4",
  detour: "7 4",
  by_tab: "10 3",
  redirect_loop: "2 4",
  sent_again: "12 4",
};

/** A ring for each cycle, a knot for each of its screens, and how often it was walked inside it. */
export function LoopRings({ loops, kinds, counted, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(860);
  const across = Math.max(Math.floor(width / WIDE), 1);
  const most = Math.max(...loops.map((loop) => counted(loop.count)), 1);
  return (
    <div ref={box}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each ring in it names itself */}
      <svg
        className="chart d-block"
        width={width}
        height={Math.ceil(loops.length / across) * TALL}
        data-testid="rings"
      >
        {loops.map((loop, i) => (
          <DrawnFigure
            key={loop.count.figure}
            figure={loop.count.figure}
            said={`${kinds[loop.kind]}, ${loop.screens.join(", ")}: ${count(loop.count.times, "time")}`}
            chosen={chosen}
            onChoose={onChoose}
          >
            <g
              transform={`translate(${(i % across) * (width / across)},${Math.floor(i / across) * TALL})`}
            >
              <rect x={0} y={0} width={width / across} height={TALL} fill="transparent" />
              <Ring
                loop={loop}
                n={counted(loop.count)}
                weight={2 + 5 * Math.sqrt(counted(loop.count) / most)}
              />
              <Words loop={loop} kind={kinds[loop.kind] ?? loop.kind} />
            </g>
          </DrawnFigure>
        ))}
      </svg>
    </div>
  );
}

const CENTRE = [46, 56] as const;

function Ring({ loop, n, weight }: { loop: Loop; n: number; weight: number }) {
  const [x, y] = CENTRE;
  return (
    <>
      <circle
        className="edge"
        cx={x}
        cy={y}
        r={RING}
        fill="none"
        stroke={COLOURS[loop.kind]}
        strokeWidth={weight}
        strokeDasharray={DASHES[loop.kind]}
      />
      {loop.screens.map((screen, i) => {
        const angle = (i / loop.screens.length) * 2 * Math.PI - Math.PI / 2;
        return (
          <circle
            key={screen}
            cx={x + RING * Math.cos(angle)}
            cy={y + RING * Math.sin(angle)}
            r={5.5}
            fill={i ? "var(--bs-body-bg)" : "var(--ink)"}
            stroke="var(--ink)"
            strokeWidth={1.6}
          />
        );
      })}
      <text x={x} y={y + 6} fontSize={16} fontWeight={650} textAnchor="middle">
        {count(n)}
      </text>
    </>
  );
}

function Words({ loop, kind }: { loop: Loop; kind: string }) {
  const shown = loop.screens.length > 4 ? loop.screens.slice(0, 3) : loop.screens;
  const turns = loop.turns
    ? `${count(Math.round(loop.turns.median * 10) / 10, "turn")}, most ${count(loop.most_turns)}`
    : "";
  return (
    <>
      <text x={98} y={20} fontSize={13} fontWeight={650} className="label">
        {kind}
      </text>
      {shown.map((screen, i) => (
        <text key={screen} x={98} y={38 + i * 16} fontSize={13}>
          {short(shownName(screen), 24)}
        </text>
      ))}
      {shown.length < loop.screens.length && (
        <text x={98} y={38 + shown.length * 16} fontSize={13}>
          {`and ${count(loop.screens.length - shown.length)} more`}
        </text>
      )}
      <text x={98} y={114} fontSize={12} opacity={0.75}>
        {[turns, loop.took && duration(loop.took.median)].filter(Boolean).join(" · ")}
      </text>
    </>
  );
}
