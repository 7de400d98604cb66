import { useState } from "react";
import type { MapView } from "../../api/client";
import { curve, KIND_OF, type Kind, layers, NODE } from "../../charts/layers";
import { useTabs } from "../../charts/tabs";
import { count, percent, short, words } from "../../format";
import { Choice } from "../../shell/Choice";
import { Picture } from "../../shell/Picture";
import { MOVE_COLUMNS } from "./moves";
import { moveFigure, screenFigure } from "./words";

interface Props {
  app: string;
  view: MapView;
  tabs: readonly string[];
  figure: string | null;
  onFigure: (figure: string) => void;
}

const KINDS: Record<Kind, string> = {
  onward: "onward",
  back: "back",
  tab: "another tab",
  sheet: "sheet",
  redirect: "sent elsewhere",
  link: "link",
};
const FAINT = 0.004;
const ZOOM = [0.6, 0.8, 1, 1.3, 1.7, 2.2];

/**
 * The app as people go through it: screens in layers, and the moves between them by their use.
 * Of a screen that is chosen, only what leads to it and from it stays.
 */
export function AppPicture({ app, view, tabs, figure, onFigure }: Props) {
  const [hidden, setHidden] = useState<ReadonlySet<Kind>>(new Set<Kind>(["back"]));
  const [zoom, setZoom] = useState(2);
  const [all, setAll] = useState(false);
  const [over, setOver] = useState<string | null>(null);
  const colour = useTabs();
  const screens = view.screens.filter((screen) => !screen.unknown && screen.visits > 0);
  const { nodes, lanes, width, height } = layers(screens, view.moves, tabs);
  const at = new Map(nodes.map((node) => [node.name, node]));
  const seen = new Map(screens.map((screen) => [screen.name, screen]));
  const drawn = view.moves.filter(
    (move) => move.from !== move.to && at.has(move.from) && at.has(move.to),
  );
  const most = Math.max(1, ...drawn.map((move) => move.steps));
  const focus = nodes.find((node) => screenFigure(node.name) === figure)?.name;
  const wanted = (move: (typeof drawn)[number]) =>
    focus ? move.from === focus || move.to === focus : all || move.steps >= most * FAINT;
  const shown = drawn.filter((move) => wanted(move) && !hidden.has(KIND_OF[move.by] ?? "onward"));
  const beside = new Set(shown.flatMap((move) => [move.from, move.to]));
  const scale = ZOOM[zoom] ?? 1;
  if (!nodes.length) {
    return <p className="soft">No screen of the map is visited in this scope.</p>;
  }
  const near = (move: { from: string; to: string }) =>
    over === null || move.from === over || move.to === over;
  return (
    <Picture
      name={`${app}-map`}
      title={focus ? `To ${short(focus, 30)} and from it` : "The app as people go through it"}
      table={{ columns: MOVE_COLUMNS, rows: view.moves, id: moveFigure }}
      choices={
        !focus && (
          <Choice
            label="Moves that are drawn"
            choices={{ most: "moves used most", all: "all" }}
            chosen={all ? "all" : "most"}
            onChoose={(chosen) => setAll(chosen === "all")}
          />
        )
      }
    >
      <div className="d-flex flex-wrap gap-3 align-items-center small-text mb-2">
        {Object.entries(KINDS).map(([kind, word]) => (
          <label key={kind} className="d-inline-flex gap-1 align-items-center">
            <input
              type="checkbox"
              checked={!hidden.has(kind as Kind)}
              onChange={() => {
                const next = new Set(hidden);
                if (!next.delete(kind as Kind)) {
                  next.add(kind as Kind);
                }
                setHidden(next);
              }}
            />
            <svg width="26" height="8" aria-hidden="true">
              <path d="M0,4H26" className={`hop ${kind}`} strokeWidth={3} />
            </svg>
            {word}
          </label>
        ))}
        <span className="ms-auto d-inline-flex gap-2 align-items-center">
          <span className="soft">
            {count(shown.length)} of {count(drawn.length, "move")}
          </span>
          <button
            type="button"
            className="quiet"
            aria-label="Smaller"
            disabled={zoom === 0}
            onClick={() => setZoom(zoom - 1)}
          >
            <i className="bi bi-dash-lg" />
          </button>
          <button
            type="button"
            className="quiet"
            aria-label="Larger"
            disabled={zoom === ZOOM.length - 1}
            onClick={() => setZoom(zoom + 1)}
          >
            <i className="bi bi-plus-lg" />
          </button>
        </span>
      </div>
      <div className="app-picture">
        {/* biome-ignore lint/a11y/useSemanticElements: a drawing with parts that are chosen */}
        <svg
          role="group"
          className="drawing"
          aria-label="Screens in layers, and the moves between them"
          width={width * scale}
          height={height * scale}
          viewBox={`0 0 ${width} ${height}`}
          data-testid="picture"
        >
          {lanes.map((lane) => (
            <g key={lane.lane}>
              <rect
                y={lane.y}
                width={width}
                height={lane.height}
                fill={colour(lane.lane.startsWith("tab:") ? lane.lane.slice(4) : "outside")}
              />
              <text x={8} y={lane.y + 30} className="lane">
                {short(laneWord(lane.lane), 14)}
              </text>
            </g>
          ))}
          {shown.map((move) => {
            const [from, to] = [at.get(move.from), at.get(move.to)];
            const kind = KIND_OF[move.by] ?? "onward";
            const own = moveFigure(move);
            return (
              from &&
              to && (
                // biome-ignore lint/a11y/useSemanticElements: a curve in a drawing; the same moves stand in the table under Plan and practice
                <g
                  key={own}
                  role="button"
                  tabIndex={-1}
                  className={`app-move ${figure === own ? "chosen" : ""} ${near(move) ? "" : "far"}`}
                  onClick={() => onFigure(own)}
                  onKeyDown={(event) => event.key === "Enter" && onFigure(own)}
                >
                  <title>
                    {`${move.from} to ${move.to} by ${words(move.by)}: ${count(move.steps, "time")} in ${count(move.journeys, "journey")}`}
                  </title>
                  <path className="reach" d={curve(from, to, kind === "back")} />
                  <path
                    className={`hop ${kind}`}
                    d={curve(from, to, kind === "back")}
                    strokeWidth={0.8 + 6 * Math.sqrt(move.steps / most)}
                  />
                </g>
              )
            );
          })}
          {nodes.map((node) => {
            const own = screenFigure(node.name);
            const screen = seen.get(node.name);
            return (
              // biome-ignore lint/a11y/useSemanticElements: a shape in a drawing cannot be a button element
              <g
                key={node.name}
                role="button"
                tabIndex={0}
                aria-label={`${node.name}: ${count(screen?.journeys ?? 0, "journey")}`}
                className={`screen-node ${figure === own ? "chosen" : ""} ${focus && !beside.has(node.name) ? "far" : ""}`}
                transform={`translate(${node.x},${node.y})`}
                onClick={() => onFigure(own)}
                onKeyDown={(event) => event.key === "Enter" && onFigure(own)}
                onMouseEnter={() => setOver(node.name)}
                onMouseLeave={() => setOver(null)}
                onFocus={() => setOver(node.name)}
                onBlur={() => setOver(null)}
              >
                <title>{`${node.name}: ${count(screen?.visits ?? 0, "visit")} in ${count(screen?.journeys ?? 0, "journey")}`}</title>
                <rect width={NODE.width} height={NODE.height} rx={3} />
                <text x={NODE.width / 2} y={15} textAnchor="middle">
                  {short(node.name, 17)}
                </text>
              </g>
            );
          })}
        </svg>
      </div>
      <p className="small-text soft mt-1 mb-0">
        A line is as thick as the move is used; of {count(drawn.reduce((n, m) => n + m.steps, 0))}{" "}
        moves between these screens,{" "}
        {percent(
          shown.reduce((n, m) => n + m.steps, 0) / drawn.reduce((n, m) => n + m.steps, 0) || 0,
        )}{" "}
        are drawn. Choose a screen, and only what leads to it and from it stays.
      </p>
    </Picture>
  );
}

function laneWord(lane: string): string {
  return { outside: "outside", sheet: "sheets", "": "in no tab" }[lane] ?? lane.slice(4);
}
