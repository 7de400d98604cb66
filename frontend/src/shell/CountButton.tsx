import type { Count } from "../api/client";
import { count } from "../format";
import { useCounted } from "../scope/useCounted";
import { OpenFigure } from "./FigureButton";

interface Props {
  own: Count | undefined;
  /** Times in any case, as beside figures that are times. */
  times?: boolean;
}

/** How often something happened, or of how many users; opens the journeys in which it did. */
export function CountButton({ own, times = false }: Props) {
  const counted = useCounted();
  if (!own?.times) {
    return <span className="soft">–</span>;
  }
  const all = `${count(own.times, "time")} in ${count(own.journeys, "journey")} of ${count(own.users, "user")}`;
  return (
    <OpenFigure figure={own.figure} title={all}>
      {count(times ? own.times : counted(own))}
    </OpenFigure>
  );
}
