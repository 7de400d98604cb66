import { type KeyboardEvent, useRef, useState } from "react";
import type { PathFigures } from "../api/client";
import { count, isolated, percent, short } from "../format";
import { type Choosing, DrawnFigure } from "./DrawnFigure";
import { type Band, laid, type Placed } from "./flow";
import { Legend } from "./Legend";
import { useWidth } from "./useWidth";

interface Props extends Choosing {
  found: PathFigures;
  backward: boolean;
  /** What each column is called. */
  heads: string[];
  words: (node: PathFigures["columns"][number]["nodes"][number], folded: number) => string;
}

const HEAD = 26;
const BAR = 10;
const LETTER = 7.2;

const COLOURS: Record<string, string> = {
  node: "var(--moss)",
  rest: "var(--stone)",
};
const WASHES: Record<string, string> = {
  ended: "var(--rust)",
  began: "var(--tarn)",
  rest: "var(--stone)",
  cut: "var(--stone)",
};

/**
 * What follows from column to column, in its true width; time runs to the right. One stop for the
 * keyboard: arrows walk from node to node.
 */
export function PathFlow({ found, backward, heads, words, chosen, onChoose }: Props) {
  const [box, width] = useWidth<HTMLDivElement>(900);
  const svg = useRef<SVGSVGElement>(null);
  const [at, setAt] = useState("0.0");
  const { nodes, bands, columns, height } = laid(found, words);
  const room = Math.max(width / Math.max(columns, 1), 96);
  const x = (column: number) => (backward ? columns - 1 - column : column) * room;
  const walk = (event: KeyboardEvent) => {
    const [column = 0, row = 0] = at.split(".").map(Number);
    const across = backward ? -1 : 1;
    const by = { ArrowRight: across, ArrowLeft: -across }[event.key] ?? 0;
    const down = { ArrowDown: 1, ArrowUp: -1 }[event.key] ?? 0;
    const own = nodes.filter((node) => node.column === column + by);
    const next = own[Math.min(Math.max(row + down, 0), own.length - 1)];
    if ((by || down) && next) {
      event.preventDefault();
      event.stopPropagation();
      const key = `${next.column}.${next.row}`;
      setAt(key);
      svg.current?.querySelector<SVGGElement>(`[data-at="${key}"] > g`)?.focus();
    }
  };
  return (
    <div ref={box} style={{ overflowX: "auto" }}>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each figure in it names itself */}
      <svg
        ref={svg}
        className="chart d-block"
        width={Math.max(width, room * columns)}
        height={HEAD + height + 22}
        onKeyDown={walk}
      >
        <Legend
          x={Math.max(width, room * columns) - (backward ? 250 : 290)}
          y={HEAD + height + 16}
          colours={
            backward
              ? [
                  ["goes on", "var(--moss)"],
                  ["began", "var(--tarn)"],
                  ["folded", "var(--stone)"],
                ]
              : [
                  ["goes on", "var(--moss)"],
                  ["ended", "var(--rust)"],
                  ["folded, or log ends", "var(--stone)"],
                ]
          }
        />
        {heads.slice(0, columns).map((head, i) => (
          <text key={head} x={x(i)} y={14} fontSize={12} opacity={0.8}>
            {head}
          </text>
        ))}
        {bands.map((band) => (
          <Ribbon
            key={band.figure}
            band={band}
            from={x(band.column) + (backward ? 0 : BAR)}
            to={x(band.column + 1) + (backward ? BAR : 0)}
            chosen={chosen}
            onChoose={onChoose}
          />
        ))}
        {nodes.map((node) => {
          const key = `${node.column}.${node.row}`;
          return (
            <g key={key} data-at={key}>
              <Node
                node={node}
                x={x(node.column)}
                room={room}
                stop={key === at}
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

interface NodeProps extends Choosing {
  node: Placed;
  x: number;
  room: number;
  stop: boolean;
}

function Node({ node, x, room, stop, chosen, onChoose }: NodeProps) {
  const { y, thick, words, kind, share, detours } = node;
  const number = count(share.count);
  const letters = Math.floor((room - BAR - 16) / LETTER) - number.length;
  const taken = detours && share.count ? detours.count / share.count : 0;
  return (
    <DrawnFigure
      figure={node.figure}
      said={`${words}: ${number}, ${percent(share.count / (share.of || 1))}${
        detours?.count ? `; ${count(detours.count)} took steps from here back` : ""
      }`}
      stop={stop}
      chosen={chosen}
      onChoose={onChoose}
    >
      <rect
        x={x}
        y={HEAD + y}
        width={BAR}
        height={thick}
        fill={COLOURS[kind]}
        className="edge"
        strokeDasharray={kind === "rest" ? "2 2" : undefined}
      />
      {taken > 0 && (
        <rect x={x + 3} y={HEAD + y} width={4} height={taken * thick} fill="var(--tarn)" />
      )}
      <text x={x + BAR + 5} y={HEAD + y + 12} fontSize={13} className="label halo">
        {isolated(short(words, Math.max(letters, 5)))}
        <tspan dx={5} fontWeight={650}>
          {number}
        </tspan>
      </text>
      {thick > 34 && (
        <text x={x + BAR + 5} y={HEAD + y + 27} fontSize={12} opacity={0.8} className="halo">
          {percent(share.count / (share.of || 1))}
        </text>
      )}
    </DrawnFigure>
  );
}

interface RibbonProps extends Choosing {
  band: Band;
  from: number;
  to: number;
}

const STUB = 20;

function Ribbon({ band, from, to, chosen, onChoose }: RibbonProps) {
  return (
    <DrawnFigure
      figure={band.figure}
      said={`${band.words}: ${count(band.count)}`}
      stop={false}
      chosen={chosen}
      onChoose={onChoose}
    >
      <path
        d={band.end === null ? stub(band, from, to) : ribbon(band, band.end, from, to)}
        fill={WASHES[band.kind] ?? "var(--moss)"}
        className="band"
        fillOpacity={band.end === null ? 0.75 : WASHES[band.kind] ? 0.35 : 0.24}
      />
    </DrawnFigure>
  );
}

function ribbon(band: Band, end: number, from: number, to: number): string {
  const [a, b, bend] = [HEAD + band.start, HEAD + end, (from + to) / 2];
  const edge = `M${from},${a}C${bend},${a} ${bend},${b} ${to},${b}V${b + band.thick}`;
  return `${edge}C${bend},${b + band.thick} ${bend},${a + band.thick} ${from},${a + band.thick}Z`;
}

/** Off the node, and down: what ends there; or, to the left of one, what begins there. */
function stub(band: Band, from: number, to: number): string {
  const [a, b] = [HEAD + band.start, HEAD + band.start + band.thick];
  const side = to > from ? 1 : -1;
  const [near, far] = [from + side * 4, from + side * (STUB + Math.min(band.thick, 14))];
  const inner = from + side * STUB;
  return `M${from},${a}H${near}Q${far},${a} ${far},${b + 7}H${inner}Q${inner},${b} ${near},${b}H${from}Z`;
}
