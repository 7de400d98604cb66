import { useLoopsOf } from "../../api/queries";
import { count, short } from "../../format";
import { LOOP_KINDS } from "../inside";

interface Props {
  app: string;
  journey: string;
  step: number;
  onStep: (step: number) => void;
}

/** The loop of the journey that its step is in, or the next one, and a way from one to the next. */
export function LoopsWalked({ app, journey, step, onStep }: Props) {
  const found = useLoopsOf(app, journey).data ?? [];
  const next = found.find((one) => one.first > step) ?? found[0];
  const here = found.find((one) => one.first <= step && step <= one.last);
  const told = here ?? next;
  if (!told || !next) {
    return null;
  }
  const way = told.screens.map((screen) => short(screen, 18)).join(" → ");
  return (
    <p className="small-text mb-1 clip" data-testid="loops-walked">
      <span className="soft">
        {count(found.length, "loop")}, bracketed below; {here ? "this one" : "the next"}:{" "}
      </span>
      {LOOP_KINDS[told.kind]}, {way}
      {told.turns > 1 && `, ${count(told.turns, "turn")}`}{" "}
      {(found.length > 1 || !here) && (
        <button type="button" className="figure-button ms-2" onClick={() => onStep(next.first)}>
          to the next
        </button>
      )}
    </p>
  );
}
