import { useMatched } from "../../api/queries";
import { useAddress } from "../../scope/scope";
import { stageWords, type Written } from "../funnels/spec";

interface Props {
  app: string;
  journey: string;
  step: number;
  onStep: (step: number) => void;
}

/** Which steps of the journey meet the stages of the funnel whose figure is open. */
export function Matched({ app, journey, step, onStep }: Props) {
  const [address] = useAddress();
  const figure = address.get("measure") === "funnel" ? address.get("figure") : null;
  const found = useMatched(app, journey, figure);
  if (!figure || !found.data?.length) {
    return null;
  }
  const { funnel } = JSON.parse(figure) as { funnel: Written };
  return (
    <p className="small-text mb-1" data-testid="matched">
      <span className="soft">stages met: </span>
      {found.data.map((one, i) => {
        const stage = funnel.order === "any" ? undefined : funnel.stages[one.stage];
        return (
          <span key={one.stage}>
            {i > 0 && " · "}
            <button
              type="button"
              className={`figure-button ${one.step === step ? "chosen" : ""}`}
              onClick={() => onStep(one.step)}
            >
              {stage ? stageWords(stage) : `${one.stage + 1} of them`} at step {one.step}
            </button>
          </span>
        );
      })}
    </p>
  );
}
