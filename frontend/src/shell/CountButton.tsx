import type { Count } from "../api/client";
import { count } from "../format";
import { useAddress } from "../scope/scope";
import { FigureButton } from "./FigureButton";

/** How often something happened; opens the journeys in which it did. */
export function CountButton({ own, said }: { own: Count | undefined; said?: string }) {
  const [address, change] = useAddress();
  const figure = address.get("figure");
  if (!own?.times) {
    return <span className="soft">–</span>;
  }
  return (
    <FigureButton
      figure={own.figure}
      chosen={figure}
      onChoose={(chosen) => change({ figure: chosen === figure ? null : chosen })}
    >
      {said ?? count(own.times)}
    </FigureButton>
  );
}
