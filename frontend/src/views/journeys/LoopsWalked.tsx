import { count, short } from "../../format";
import { LOOP_KINDS } from "../inside";
import type { Round } from "./useRounds";

interface Props {
  rounds: Round[];
  step: number;
  onStep: (step: number) => void;
}

/** The loop that the step is in, or the next one, and a way from one to the next. */
export function LoopsWalked({ rounds, step, onStep }: Props) {
  const asked = rounds.some((one) => one.asked);
  const walked = asked ? rounds.filter((one) => one.asked) : rounds;
  const next = walked.find((one) => one.first > step) ?? walked[0];
  const here = walked.find((one) => one.first <= step && step <= one.last);
  const told = here ?? next;
  if (!told || !next) {
    return null;
  }
  const way = told.screens.map((screen) => short(screen, 18)).join(" → ");
  const number = asked
    ? `${count(walked.length)} of ${count(rounds.length, "loop")}`
    : count(rounds.length, "loop");
  return (
    <p className="small-text mb-1 clip" data-testid="loops-walked">
      <span className="soft">
        {number}, bracketed below; {here ? "this one" : "the next"}:{" "}
      </span>
      {LOOP_KINDS[told.kind]}, {way}
      {told.turns > 1 && `, ${count(told.turns, "turn")}`}{" "}
      {(walked.length > 1 || !here) && (
        <button type="button" className="figure-button ms-2" onClick={() => onStep(next.first)}>
          to the next
        </button>
      )}
    </p>
  );
}
