import { useAddress } from "./scope";

/** The figure whose journeys are open, and a way to open another, or to close it once more. */
export function useFigure() {
  const [address, change] = useAddress();
  const figure = address.get("figure");
  const choose = (chosen: string) => change({ figure: chosen === figure ? null : chosen });
  return [figure, choose] as const;
}
