import { useJourney } from "../../api/queries";
import { type Across, TrailProfile } from "../../charts/TrailProfile";
import { count, date, duration, time } from "../../format";
import { Loading, Trouble } from "../../shell/states";

interface Props {
  app: string;
  /** The journey that is held. */
  held: string;
  across: Across;
  onLetGo: () => void;
  /** Go on in the held one, at this step; the other is held then. */
  onWalk: (step: number) => void;
}

/** A second journey under the first, to hold them against each other. */
export function Beside({ app, held, across, onLetGo, onWalk }: Props) {
  const found = useJourney(app, held);
  if (found.isPending) {
    return <Loading what="Reading" />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const journey = found.data;
  return (
    <section className="beside" aria-label="The journey held beside" data-testid="beside">
      <div className="d-flex gap-3 small-text align-items-baseline">
        <span className="fw-semibold clip">{journey.user}</span>
        <span className="soft clip">
          {count(journey.steps, "step")} in {duration(journey.duration)} · {date(journey.start)}{" "}
          {time(journey.start)}
        </span>
        <button type="button" className="figure-button ms-auto flex-shrink-0" onClick={onLetGo}>
          let go
        </button>
      </div>
      {journey.trail.length > 0 ? (
        <TrailProfile journey={journey} step={1} across={across} onStep={onWalk} />
      ) : (
        <p className="soft">No screen was shown in this session.</p>
      )}
    </section>
  );
}
