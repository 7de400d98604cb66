import { useMatchesOf } from "../../api/queries";
import { count, short } from "../../format";
import { useAddress } from "../../scope/scope";
import { readFigure } from "../patterns/words";

interface Match {
  first: number;
  last: number;
  asked: boolean;
}

/** Where the pattern fits whose figure led here. */
export function useMatches(app: string, journey: string): Match[] {
  const [address] = useAddress();
  const figure = address.get("measure") === "patterns" ? address.get("figure") : null;
  const found = useMatchesOf(app, journey, figure);
  return figure ? (found.data ?? []).map((one) => ({ ...one, asked: true })) : [];
}

interface Props {
  matches: Match[];
  step: number;
  onStep: (step: number) => void;
}

/** How often it fits, bracketed on the profile, and a way from one to the next. */
export function MatchesFound({ matches, step, onStep }: Props) {
  const [address] = useAddress();
  const next = matches.find((one) => one.first > step) ?? matches[0];
  const pattern = readFigure(address.get("figure"))?.pattern;
  if (!next || !pattern) {
    return null;
  }
  return (
    <p className="small-text mb-1 clip" data-testid="matches-found">
      <span className="soft">
        {count(matches.length, "match", "matches")}, bracketed below, of{" "}
      </span>
      <code>{short(pattern, 80)}</code>{" "}
      <button type="button" className="figure-button ms-2" onClick={() => onStep(next.first)}>
        to the next
      </button>
    </p>
  );
}
