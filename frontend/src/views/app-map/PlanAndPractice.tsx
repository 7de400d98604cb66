import type { MapView } from "../../api/client";
import { words } from "../../format";
import { DataTable } from "../../shell/DataTable";
import { OpenFigure } from "../../shell/FigureButton";
import { MOVE_COLUMNS } from "./moves";
import { moveFigure, screenFigure } from "./words";

interface Props {
  app: string;
  view: MapView;
}

/** The moves that were declared and those that are seen; screens nobody reaches or leaves. */
export function PlanAndPractice({ app, view }: Props) {
  const { never_seen, not_declared, unreached, no_way_out } = view.practice;
  const declared = Array.isArray(view.document.moves) && view.document.moves.length > 0;
  const undeclared = new Set(not_declared.map(moveFigure));
  return (
    <div className="column">
      <Screens
        title="Screens of the map that nobody reaches"
        names={unreached}
        none="Every screen of the map is reached."
      />
      <Screens
        title="Screens that nobody is seen to leave"
        names={no_way_out}
        none="Every screen that is reached is left again."
        opened
      />
      {declared ? (
        <>
          <h2 className="mt-3">Declared moves that are never seen</h2>
          {never_seen.length ? (
            never_seen.map((move) => (
              <div key={moveFigure(move)}>
                {move.from} → {move.to} {move.by && `by ${words(move.by)}`}
              </div>
            ))
          ) : (
            <p className="soft">Every declared move is seen.</p>
          )}
        </>
      ) : (
        <p className="soft mt-2">
          The map declares no moves. List them under <code>moves</code> in its file, and this page
          tells which of them are never made, and which are made that nobody meant.
        </p>
      )}
      <DataTable
        name={`${app}-moves`}
        title="Moves as they are made"
        columns={[
          ...MOVE_COLUMNS,
          {
            title: "declared",
            value: (move) => (undeclared.has(moveFigure(move)) ? "not declared" : ""),
          },
        ]}
        rows={view.moves}
        id={moveFigure}
        testid="moves"
        first={25}
      />
    </div>
  );
}

interface ScreensProps {
  title: string;
  names: string[];
  none: string;
  /** Whether journeys stand on them that can be opened. */
  opened?: boolean;
}

function Screens({ title, names, none, opened }: ScreensProps) {
  return (
    <p className="mb-1">
      <span className="fw-semibold">{title}:</span>{" "}
      {names.length ? (
        names.map((name) => (
          <span key={name} className="me-2">
            {opened ? <OpenFigure figure={screenFigure(name)}>{name}</OpenFigure> : name}
          </span>
        ))
      ) : (
        <span className="soft">{none}</span>
      )}
    </p>
  );
}
