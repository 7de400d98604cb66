import { useState } from "react";
import type { MapView } from "../../api/client";
import { count, words } from "../../format";
import { moveFigure, screenFigure } from "./words";

interface Props {
  view: MapView;
  figure: string | null;
  onFigure: (figure: string) => void;
}

const AT_FIRST = 25;

/** The moves that were declared and those that are seen; screens nobody reaches or leaves. */
export function PlanAndPractice({ view, figure, onFigure }: Props) {
  const [all, setAll] = useState(false);
  const { never_seen, not_declared, unreached, no_way_out } = view.practice;
  const declared = Array.isArray(view.document.moves) && view.document.moves.length > 0;
  const shown = view.moves.slice(0, all ? undefined : AT_FIRST);
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
        figure={figure}
        onFigure={onFigure}
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
      <h2 className="mt-3">Moves as they are made</h2>
      <table className="table table-sm plain" data-testid="moves">
        <thead>
          <tr>
            <th className="n">journeys</th>
            <th className="n">times</th>
            <th>from</th>
            <th>to</th>
            <th>by</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {shown.map((move) => {
            const own = moveFigure(move);
            return (
              <tr key={own} className={figure === own ? "table-active" : ""}>
                <td className="n">
                  <button
                    type="button"
                    className={`figure-button ${figure === own ? "chosen" : ""}`}
                    onClick={() => onFigure(own)}
                  >
                    {count(move.journeys)}
                  </button>
                </td>
                <td className="n soft">{count(move.steps)}</td>
                <td className="clip">{move.from}</td>
                <td className="clip">{move.to}</td>
                <td>{words(move.by)}</td>
                <td className="small-text">
                  {undeclared.has(own) && <span className="mark-word">not declared</span>}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {view.moves.length > shown.length && (
        <button type="button" className="figure-button" onClick={() => setAll(true)}>
          show all {count(view.moves.length)}
        </button>
      )}
    </div>
  );
}

interface ScreensProps {
  title: string;
  names: string[];
  none: string;
  figure?: string | null;
  onFigure?: (figure: string) => void;
}

function Screens({ title, names, none, figure, onFigure }: ScreensProps) {
  return (
    <p className="mb-1">
      <span className="fw-semibold">{title}:</span>{" "}
      {names.length ? (
        names.map((name) =>
          onFigure ? (
            <button
              key={name}
              type="button"
              className={`figure-button me-2 ${figure === screenFigure(name) ? "chosen" : ""}`}
              onClick={() => onFigure(screenFigure(name))}
            >
              {name}
            </button>
          ) : (
            <span key={name} className="me-2">
              {name}
            </span>
          ),
        )
      ) : (
        <span className="soft">{none}</span>
      )}
    </p>
  );
}
