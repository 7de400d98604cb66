import type { Count } from "../api/client";
import { count } from "../format";
import { useCounted } from "../scope/useCounted";
import { useFigure } from "../scope/useFigure";
import { FigureButton } from "./FigureButton";

interface Props {
  own: Count | undefined;
  /** Times in any case, as beside figures that are times. */
  times?: boolean;
}

/** How often something happened, or of how many users; opens the journeys in which it did. */
export function CountButton({ own, times = false }: Props) {
  const [figure, choose] = useFigure();
  const counted = useCounted();
  if (!own?.times) {
    return <span className="soft">–</span>;
  }
  const all = `${count(own.times, "time")} in ${count(own.journeys, "journey")} of ${count(own.users, "user")}`;
  return (
    <FigureButton figure={own.figure} chosen={figure} onChoose={choose} title={all}>
      {count(times ? own.times : counted(own))}
    </FigureButton>
  );
}
