import type { FunnelFigures } from "../../api/client";
import { count } from "../../format";
import { useFigure } from "../../scope/useFigure";
import { type Column, half, interval, middle, name, opens, share } from "../../shell/columns";
import { FigureButton } from "../../shell/FigureButton";
import { lossWords } from "./words";

export type Stage = FunnelFigures["stages"][number] & { word: string };

const FIRST = "stage.0";

/** Of every stage how many came to it, how soon, and which ways the others went. */
export function stageColumns(counted: string, figureOf: (cell: string) => string): Column<Stage>[] {
  const later = <Own,>(stage: Stage, own: Own) => (stage.cell === FIRST ? null : own);
  return [
    name("stage", (stage) => stage.word, "14rem"),
    opens(counted, (stage) => ({ figure: figureOf(stage.cell), n: stage.count })),
    share("of the first", (stage) => later(stage, stage.of_first)),
    interval((stage) => later(stage, stage.of_first)),
    share("of the one before", (stage) => later(stage, stage.of_previous)),
    { ...interval((stage) => later(stage, stage.of_previous)), title: "95 % of that" },
    middle("middle time to it", (stage) => stage.time_to),
    ...half<Stage>("half within", (stage) => stage.time_to),
    {
      title: "the others",
      value: (stage) =>
        stage.losses
          .map((loss) => `${lossWords(loss.way, loss.screen)} ${loss.share.count}`)
          .join(", "),
      cell: (stage) => <Losses stage={stage} figureOf={figureOf} />,
    },
  ];
}

function Losses({ stage, figureOf }: { stage: Stage; figureOf: (cell: string) => string }) {
  const [figure, choose] = useFigure();
  return (
    <span className="small-text">
      {stage.losses.map((loss, k) => (
        <span key={loss.cell}>
          {k > 0 && " · "}
          {lossWords(loss.way, loss.screen)}{" "}
          <FigureButton figure={figureOf(loss.cell)} chosen={figure} onChoose={choose}>
            {count(loss.share.count)}
          </FigureButton>
        </span>
      ))}
    </span>
  );
}
