import { scaleLinear } from "d3-scale";
import { useEffect, useState } from "react";
import type { Journey, Step } from "../api/client";
import { duration, EXIT_WORDS, short, time, words } from "../format";
import { along } from "./along";
import { bands, terrain } from "./grounds";
import { useTabs } from "./tabs";
import { useWidth } from "./useWidth";

export type Across = "steps" | "time";

interface Span {
  first: number;
  last: number;
  asked: boolean;
}

interface Props {
  journey: Journey;
  step: number;
  across: Across;
  /** Steps that belong together, as of a loop, and whether they are what was asked for. */
  spans?: Span[];
  onStep: (step: number) => void;
}

const HEIGHT = 330;
const TOP = 46;
const FLOOR = 236;
const LEFT = 30;
const CAIRN = 112;
const WIDEST = 62;
const NARROWEST = 21;
const LABEL = 17;

interface Spot {
  step: Step;
  height: number;
  ground: string;
  x0: number;
  x1: number;
  y: number;
  /** Whether it lasted longer than it is drawn. */
  cut: boolean;
}

/** One journey as the elevation profile of a walk: across its steps or time, up its depth. */
export function TrailProfile({ journey, step, across, spans = [], onStep }: Props) {
  const [box, room] = useWidth<HTMLDivElement>(800);
  const [scrolled, setScrolled] = useState(0);
  const spots = placeSpots(journey.trail, across, room);
  const end = spots.at(-1)?.x1 ?? LEFT;
  const width = Math.max(room, end + CAIRN);
  const seen = spots.filter(
    (spot) => spot.x1 >= scrolled - 300 && spot.x0 <= scrolled + room + 300,
  );
  const current = spots[step - 1];

  // biome-ignore lint/correctness/useExhaustiveDependencies: follow the step, not the drawing
  useEffect(() => {
    const element = box.current;
    if (element && current) {
      const middle = (current.x0 + current.x1) / 2;
      if (middle < element.scrollLeft + 60 || middle > element.scrollLeft + room - 140) {
        element.scrollLeft = middle - room / 2;
      }
    }
  }, [step, journey.key, across, room]);

  return (
    <div
      className="trail"
      ref={box}
      onScroll={(event) => setScrolled(event.currentTarget.scrollLeft)}
    >
      <svg
        className="chart d-block"
        width={width}
        height={HEIGHT}
        role="img"
        aria-label={`Profile of the journey: ${journey.steps} steps, at most ${journey.deepest} deep`}
      >
        <Grounds spots={spots} seen={seen} />
        <DepthLines spots={spots} width={end} />
        {seen.map((spot) => {
          const before = spots[spot.step.step - 2];
          return <g key={spot.step.step}>{before && <Way from={before} to={spot} />}</g>;
        })}
        {withRoom(seen, (spot) => Boolean(spot.step.link)).map(({ spot, room }) => (
          <LinkDrop key={spot.step.step} spot={spot} room={room} />
        ))}
        {seen
          .filter((spot) => spot.cut)
          .map((spot) => (
            <Cut key={spot.step.step} spot={spot} />
          ))}
        {seen.map((spot) => (
          <Stand key={spot.step.step} spot={spot} />
        ))}
        {withRoom(seen, (spot) => flagged(spot).length > 0).map(({ spot, room }) => (
          <Flag key={spot.step.step} spot={spot} room={room} />
        ))}
        {current && (
          <rect
            x={current.x0 - 2}
            y={TOP - 4}
            width={current.x1 - current.x0 + 4}
            height={FLOOR - TOP + 4}
            fill="none"
            stroke="var(--ink)"
            strokeWidth={1.2}
          />
        )}
        {spans.map((span) => (
          <Bracket
            key={span.first}
            from={spots[span.first - 1]}
            to={spots[span.last - 1]}
            strong={span.asked}
          />
        ))}
        <Names spots={seen} step={step} across={across} />
        <Cairn x={end + 54} exit={journey.exit} />
        {seen.map((spot) => (
          // biome-ignore lint/a11y/noStaticElementInteractions: the arrow keys do the same
          <rect
            key={spot.step.step}
            x={spot.x0}
            y={TOP - 10}
            width={Math.max(spot.x1 - spot.x0, 3)}
            height={HEIGHT - TOP}
            fill="transparent"
            style={{ cursor: "pointer" }}
            onClick={() => onStep(spot.step.step)}
          >
            <title>{stepTitle(spot.step)}</title>
          </rect>
        ))}
      </svg>
    </div>
  );
}

/** A bracket over a span of steps. */
function Bracket({ from, to, strong }: { from?: Spot; to?: Spot; strong: boolean }) {
  if (!from || !to) {
    return null;
  }
  const [x0, x1] = [(from.x0 + from.x1) / 2 + 3, (to.x0 + to.x1) / 2 - 3];
  return (
    <path
      d={`M${x0},${TOP - 24}V${TOP - 31}H${x1}V${TOP - 24}`}
      fill="none"
      stroke="var(--ochre)"
      strokeWidth={strong ? 4 : 2}
    />
  );
}

function placeSpots(trail: Step[], across: Across, room: number): Spot[] {
  const free = room - LEFT - CAIRN;
  const ground = terrain(trail);
  const highest = Math.max(4, ...ground.map((spot) => spot.height));
  const up = scaleLinear([0, highest + 0.4], [FLOOR, TOP]);
  const wide = Math.min(WIDEST, Math.max(NARROWEST, free / Math.max(trail.length, 1)));
  const axis = along(
    trail.map((step) => step.time),
    lastMoment(trail),
  );
  const drawn = scaleLinear([0, Math.max(axis.end, 1)], [LEFT, LEFT + Math.max(free, 200)]);
  return trail.map((step, i) => {
    const place = ground[i] ?? { height: 1, ground: "outside" };
    const byTime = across === "time";
    const x0 = byTime ? drawn(axis.at[i] ?? 0) : LEFT + i * wide;
    const x1 = byTime ? drawn(axis.at[i + 1] ?? axis.end) : x0 + wide;
    const cut = byTime && Boolean(axis.cut[i]);
    return { step, ...place, x0, x1, cut, y: up(place.height) };
  });
}

/** A journey's last step has no end of its own: give it the share of one step to stand on. */
function lastMoment(trail: Step[]): number {
  const first = trail[0]?.time ?? 0;
  const last = trail.at(-1)?.time ?? 0;
  return last + Math.max((last - first) / Math.max(trail.length, 1), 1000);
}

function Grounds({ spots, seen }: { spots: Spot[]; seen: Spot[] }) {
  const colourOf = useTabs();
  const area = seen
    .map((s, i) => `${i ? "L" : "M"}${s.x0},${s.y}H${s.x1}`)
    .concat(seen.length ? [`V${FLOOR}H${seen[0]?.x0}Z`] : [])
    .join("");
  return (
    <>
      {bands(spots.map((spot) => spot.ground)).map((band) => {
        const from = spots[band.from];
        const to = spots[band.to];
        if (!from || !to) {
          return null;
        }
        const wide = to.x1 - from.x0;
        return (
          <g key={band.from}>
            <rect
              x={from.x0}
              y={TOP - 4}
              width={wide}
              height={FLOOR - TOP + 4}
              fill={colourOf(band.ground)}
            />
            {wide > 34 && (
              <text x={from.x0 + 3} y={TOP - 10} fontSize={13} fontWeight={600}>
                {short(band.ground, Math.floor(wide / 8.4))}
                <title>{band.ground}</title>
              </text>
            )}
          </g>
        );
      })}
      <path d={area} fill="var(--ink)" opacity={0.09} />
    </>
  );
}

function DepthLines({ spots, width }: { spots: Spot[]; width: number }) {
  const highest = Math.max(4, ...spots.map((spot) => spot.height));
  const up = scaleLinear([0, highest + 0.4], [FLOOR, TOP]);
  const every = Math.ceil(highest / 7);
  const depths = Array.from({ length: highest }, (_, i) => i + 1).filter((d) => d % every === 0);
  return depths.map((depth) => (
    <g key={depth}>
      <line
        x1={LEFT}
        x2={width}
        y1={up(depth)}
        y2={up(depth)}
        stroke="var(--stone-light)"
        strokeDasharray="1 4"
        opacity={0.6}
      />
      <text x={LEFT - 8} y={up(depth) + 4} fontSize={12} textAnchor="end" opacity={0.75}>
        {depth}
      </text>
    </g>
  ));
}

const WAYS: Record<string, { stroke: string; dash?: string }> = {
  pop: { stroke: "var(--tarn)", dash: "5 3" },
  pop_to: { stroke: "var(--tarn)", dash: "5 3" },
  close_modal: { stroke: "var(--heather)", dash: "5 3" },
  open_modal: { stroke: "var(--heather)" },
  switch_tab: { stroke: "var(--ochre)", dash: "2 3" },
  redirect: { stroke: "var(--rust)" },
  link: { stroke: "var(--tarn)", dash: "1 4" },
  replace: { stroke: "var(--stone)" },
  reset: { stroke: "var(--stone)" },
  update: { stroke: "var(--stone)" },
};

/** The way between two steps takes a little of each; of a very short one, very little. */
function inset(spot: Spot): number {
  return Math.min(3, (spot.x1 - spot.x0) / 3);
}

/** How one step led to the next: the line's colour and dash tell the move. */
function Way({ from, to }: { from: Spot; to: Spot }) {
  const look = WAYS[to.step.move] ?? { stroke: "var(--moss)" };
  const x0 = from.x1 - inset(from);
  const x1 = to.x0 + inset(to);
  const kink = to.step.move === "redirect";
  const middle = (from.y + to.y) / 2;
  const path = kink
    ? `M${x0},${from.y}L${x1 + 1},${middle + 13}L${x0 - 1},${middle - 13}L${x1},${to.y}`
    : `M${x0},${from.y}L${x1},${to.y}`;
  return (
    <path d={path} fill="none" stroke={look.stroke} strokeDasharray={look.dash} strokeWidth={1.7} />
  );
}

function LinkDrop({ spot, room }: { spot: Spot; room: number }) {
  const x = spot.x0 + 6;
  const whole = spot.step.source ? `link, from ${spot.step.source}` : "link";
  const from = [whole, "link", ""].find((said) => said.length * LETTER < room) ?? "";
  return (
    <g>
      <line
        x1={x}
        x2={x}
        y1={TOP}
        y2={spot.y - 3}
        stroke="var(--tarn)"
        strokeWidth={1.7}
        strokeDasharray="2 3"
      />
      <path
        d={`M${x - 4},${spot.y - 9}L${x},${spot.y - 2}L${x + 4},${spot.y - 9}`}
        fill="none"
        stroke="var(--tarn)"
      />
      <text x={x + 5} y={TOP + 11} fontSize={12} style={{ fill: "var(--tarn)" }}>
        {short(from, 30)}
        <title>{whole}</title>
      </text>
    </g>
  );
}

/** A rest that is longer than it is drawn. */
function Cut({ spot }: { spot: Spot }) {
  const x = (spot.x0 + spot.x1) / 2;
  return (
    <g>
      <path
        d={`M${x - 5},${FLOOR + 4}l5,-8m0,8l5,-8`}
        stroke="var(--ink)"
        strokeWidth={1.3}
        fill="none"
      />
      {spot.x1 - spot.x0 > 60 && (
        <text x={x} y={FLOOR - 8} fontSize={11.5} textAnchor="middle">
          {duration((spot.step.until ?? spot.step.time) - spot.step.time)}, cut short
        </text>
      )}
    </g>
  );
}

/** Where the user stood: solid as reported, hollow as inferred, dotted where unsure, a plate for a sheet. */
function Stand({ spot }: { spot: Spot }) {
  const sheet = spot.step.region === "sheet";
  const x = spot.x0 + inset(spot);
  const width = Math.max(spot.x1 - spot.x0 - 2 * inset(spot), 1.5);
  const thick = sheet ? 7 : 3;
  const colour = sheet ? "var(--heather)" : "var(--ink)";
  const hollow = spot.step.inferred;
  return (
    <rect
      x={x}
      y={spot.y - thick / 2 - (hollow ? 1 : 0)}
      width={width}
      height={thick + (hollow ? 2 : 0)}
      rx={sheet ? 2 : 0}
      fill={hollow ? "var(--bs-body-bg)" : colour}
      stroke={hollow ? colour : "none"}
      strokeDasharray={spot.step.unsure ? "2 2.5" : undefined}
    />
  );
}

const flagged = (spot: Spot) => spot.step.marks.filter((mark) => mark !== "bounce");

/** Steps that bear something, and how wide the words beside each may be. */
function withRoom(spots: Spot[], bears: (spot: Spot) => boolean): { spot: Spot; room: number }[] {
  const some = spots.filter(bears);
  return some.map((spot, i) => ({
    spot,
    room: (some[i + 1]?.x0 ?? spots.at(-1)?.x1 ?? spot.x1) - spot.x0 - 14,
  }));
}

const LETTER = 6.2;

function Flag({ spot, room }: { spot: Spot; room: number }) {
  const x = spot.x0 + 7;
  const y = Math.min(spot.y + 22, FLOOR - 2);
  const text = short(flagged(spot).map(words).join(", "), 16);
  return (
    <g>
      <path d={`M${x},${y}V${y - 15}`} stroke="var(--rust)" strokeWidth={1.3} />
      <path d={`M${x},${y - 15}l9,3.5l-9,3.5z`} fill="var(--rust)" />
      {spot.x1 - spot.x0 > 40 && text.length * LETTER < room && (
        <text x={x + 11} y={y - 7} fontSize={11.5} style={{ fill: "var(--rust)" }}>
          {text}
        </text>
      )}
    </g>
  );
}

/** How far a slanted name reaches to the left with each letter: the first ones have little room. */
const AWAY = 6;

function Names({ spots, step, across }: { spots: Spot[]; step: number; across: Across }) {
  const current = spots.find((spot) => spot.step.step === step);
  let free = Number.NEGATIVE_INFINITY;
  return spots.map((spot) => {
    const x = across === "steps" ? (spot.x0 + spot.x1) / 2 : spot.x0 + 6;
    const isCurrent = spot === current;
    // By time steps can stand close: a name gives way to the one before it, or to the current.
    const hidden =
      !isCurrent && (x < free + 15 || Boolean(current && Math.abs(xOf(current, across) - x) < 15));
    if (hidden) {
      return null;
    }
    free = x;
    return (
      <text
        key={spot.step.step}
        transform={`translate(${x + 4},${FLOOR + 13})rotate(-42)`}
        textAnchor="end"
        fontSize={12.5}
        fontWeight={isCurrent ? 700 : 400}
      >
        {short(spot.step.screen, Math.min(LABEL, Math.floor((x + 4) / AWAY)))}
      </text>
    );
  });
}

function xOf(spot: Spot, across: Across): number {
  return across === "steps" ? (spot.x0 + spot.x1) / 2 : spot.x0 + 6;
}

/** The end: stones for a closed app, hollow ones where it may go on, a gap where nobody knows. */
function Cairn({ x, exit }: { x: number; exit: string }) {
  const stones = { closed: 4, signed_out: 3, backgrounded: 3, silent: 2, cut: 0 }[exit] ?? 2;
  const hollow = exit === "backgrounded" || exit === "silent";
  return (
    <g>
      {Array.from({ length: stones }, (_, i) => {
        const width = 26 - i * 6;
        return (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: stones have no other name
            key={i}
            x={x - width / 2}
            y={FLOOR - 9 - i * 10}
            width={width}
            height={7}
            rx={3}
            fill={hollow ? "none" : "var(--stone)"}
            stroke="var(--stone)"
            strokeDasharray={exit === "silent" ? "2 2" : undefined}
          />
        );
      })}
      {exit === "cut" && (
        <path
          d={`M${x - 8},${TOP}l8,14l-8,14l8,14l-8,14l8,14l-8,14l8,14l-8,14l8,14l-8,14l8,14l-8,14`}
          fill="none"
          stroke="var(--stone)"
        />
      )}
      <text x={x} y={FLOOR + 15} fontSize={12} textAnchor="middle">
        {EXIT_WORDS[exit] ?? exit}
      </text>
    </g>
  );
}

function stepTitle(step: Step): string {
  const stayed = step.dwell_ms === null ? "" : `, stayed ${duration(step.dwell_ms)}`;
  return `${step.step}. ${step.screen} at ${time(step.time)}${stayed}`;
}
