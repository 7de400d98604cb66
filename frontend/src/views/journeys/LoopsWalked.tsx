import { useLoopsOf } from "../../api/queries";
import { count, short } from "../../format";
import { LOOP_KINDS } from "../inside";

interface Props {
  app: string;
  journey: string;
  step: number;
  onStep: (step: number) => void;
}

/** The loops of the journey; each leads to where it begins. */
export function LoopsWalked({ app, journey, step, onStep }: Props) {
  const found = useLoopsOf(app, journey);
  if (!found.data?.length) {
    return null;
  }
  return (
    <p className="small-text mb-1" data-testid="loops-walked">
      <span className="soft">loops, bracketed below: </span>
      {found.data.map((one, i) => (
        <span key={one.first}>
          {i > 0 && " · "}
          <button
            type="button"
            className={`figure-button ${one.first <= step && step <= one.last ? "chosen" : ""}`}
            title={one.screens.join(" → ")}
            onClick={() => onStep(one.first)}
          >
            {LOOP_KINDS[one.kind]}, {one.screens.map((screen) => short(screen, 16)).join(" → ")}
            {one.turns > 1 && `, ${count(one.turns, "turn")}`}
          </button>
        </span>
      ))}
    </p>
  );
}
