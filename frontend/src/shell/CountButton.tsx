import type { Count } from "../api/client";
import { count } from "../format";
import { useFigure } from "../scope/useFigure";
import { FigureButton } from "./FigureButton";

/** How often something happened; opens the journeys in which it did. */
export function CountButton({ own, said }: { own: Count | undefined; said?: string }) {
  const [figure, choose] = useFigure();
  if (!own?.times) {
    return <span className="soft">–</span>;
  }
  return (
    <FigureButton figure={own.figure} chosen={figure} onChoose={choose}>
      {said ?? count(own.times)}
    </FigureButton>
  );
}
