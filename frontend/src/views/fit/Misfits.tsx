import type { ReactNode } from "react";
import { useFit } from "../../api/queries";
import { count, words } from "../../format";
import { misfitFigure, shareOf } from "./words";

interface Props {
  app: string;
  figure: string | null;
  onFigure: (figure: string) => void;
}

/** Which moves misfit most often, and how the misfits lie over moves, screens and versions. */
export function Misfits({ app, figure, onFigure }: Props) {
  const { data: fit } = useFit(app);
  if (!fit || fit.landed === fit.told) {
    return null;
  }
  const open = (key: string, n: number): ReactNode => (
    <button
      type="button"
      className={`figure-button ${key === figure ? "chosen" : ""}`}
      data-figure={key}
      aria-pressed={key === figure}
      onClick={() => onFigure(key)}
    >
      {count(n)}
    </button>
  );
  const groups = [
    { kind: "move", title: "move", list: fit.by_move },
    { kind: "screen", title: "landed on", list: fit.by_screen },
    { kind: "value", title: fit.by, list: fit.by_value },
  ];
  return (
    <section className="d-flex flex-wrap column-gap-5 align-items-start">
      <table className="table table-sm plain w-auto" data-testid="misfits">
        <caption className="caption-top">Moves that landed elsewhere, the most frequent</caption>
        <thead>
          <tr>
            <th className="n">moves</th>
            <th>move</th>
            <th>from</th>
            <th>was to lead to</th>
            <th>led to</th>
          </tr>
        </thead>
        <tbody>
          {fit.misfits.map((one) => (
            <tr key={misfitFigure(one)}>
              <td className="n">{open(misfitFigure(one), one.steps)}</td>
              <td className="text-nowrap">{words(one.move)}</td>
              <td className="name">{one.from || <span className="soft">the start</span>}</td>
              <td className="name">
                {one.expected || <span className="soft">nothing: out of the app</span>}
              </td>
              <td className="name">{one.came}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div>
        {groups.map(({ kind, title, list }) => {
          const some = list.filter((one) => one.landed < one.told);
          return (
            some.length > 0 && (
              <table key={kind} className="table table-sm plain w-auto">
                <thead>
                  <tr>
                    <th>{title}</th>
                    <th className="n">as predicted</th>
                    <th className="n">elsewhere</th>
                  </tr>
                </thead>
                <tbody>
                  {some.map((one) => (
                    <tr key={one.name}>
                      <td className="name">
                        {kind === "move" ? words(one.name) : one.name || "unknown"}
                      </td>
                      <td className="n">{shareOf(one.landed, one.told)}</td>
                      <td className="n">
                        {open(
                          JSON.stringify(
                            kind === "value" ? [kind, fit.by, one.name] : [kind, one.name],
                          ),
                          one.told - one.landed,
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )
          );
        })}
      </div>
    </section>
  );
}
