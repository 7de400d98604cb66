import { useAddress } from "./scope";

/**
 * The figure whose journeys are open, and a way to open another, or to close it once more.
 * `of` names its measure where a page has several.
 */
export function useFigure(of: string | null = null) {
  const [address, change] = useAddress();
  const whole = address.get("part") === null && address.get("of") === of;
  const figure = whole ? address.get("figure") : null;
  const choose = (chosen: string) =>
    change(chosen === figure ? { figure: null, of: null } : { figure: chosen, of });
  return [figure, choose] as const;
}

/** The same for figures of the groups of a property: which is open of a value, and opening one. */
export function useFigureOf(by: string) {
  const [address, change] = useAddress();
  const opened = (value: string) =>
    address.get("part") === value && address.get("part_by") === by ? address.get("figure") : null;
  const choose = (chosen: string, value: string) =>
    change(
      opened(value) === chosen
        ? { figure: null, of: null }
        : { figure: chosen, of: null, part: value, part_by: by },
    );
  return [opened, choose] as const;
}
