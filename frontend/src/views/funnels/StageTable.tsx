import type { FunnelFigures } from "../../api/client";
import { count, duration, percent } from "../../format";
import { FigureButton } from "../../shell/FigureButton";
import { lossWords } from "./words";

interface Props {
  found: FunnelFigures;
  words: string[];
  figure: string | null;
  figureOf: (cell: string) => string;
  onChoose: (figure: string) => void;
}

/** Every stage, and every way that the others went. */
export function StageTable({ found, words, figure, figureOf, onChoose }: Props) {
  const button = (cell: string, n: number) => (
    <FigureButton figure={figureOf(cell)} chosen={figure} onChoose={onChoose}>
      {count(n)}
    </FigureButton>
  );
  return (
    <table className="table table-sm plain mt-3" data-testid="stages">
      <thead>
        <tr>
          <th>stage</th>
          <th className="n">{found.counted}</th>
          <th className="n">of the first</th>
          <th>95 %</th>
          <th className="n">of the one before</th>
          <th>95 %</th>
          <th className="n">middle time to it</th>
          <th className="n">half within</th>
          <th>the others</th>
        </tr>
      </thead>
      <tbody>
        {found.stages.map((stage, i) => (
          <tr key={stage.cell}>
            <td className="clip" style={{ maxWidth: "14rem" }} title={words[i]}>
              {words[i]}
            </td>
            <td className="n">{button(stage.cell, stage.count)}</td>
            <td className="n">{i > 0 && percent(stage.of_first.count / stage.of_first.of || 0)}</td>
            <td className="soft text-nowrap">
              {i > 0 && `${percent(stage.of_first.low)} – ${percent(stage.of_first.high)}`}
            </td>
            <td className="n">
              {i > 0 && percent(stage.of_previous.count / stage.of_previous.of || 0)}
            </td>
            <td className="soft text-nowrap">
              {i > 0 && `${percent(stage.of_previous.low)} – ${percent(stage.of_previous.high)}`}
            </td>
            <td className="n">{stage.time_to && duration(stage.time_to.median)}</td>
            <td className="n soft text-nowrap">
              {stage.time_to &&
                `${duration(stage.time_to.first)} – ${duration(stage.time_to.third)}`}
            </td>
            <td className="small-text">
              {stage.losses.map((loss, k) => (
                <span key={loss.cell}>
                  {k > 0 && " · "}
                  {lossWords(loss.way, loss.screen)} {button(loss.cell, loss.share.count)}
                </span>
              ))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
