import type { ReactNode } from "react";
import { useFigure } from "../scope/useFigure";

interface Props {
  figure: string;
  chosen: string | null;
  onChoose: (figure: string) => void;
  title?: string;
  children: ReactNode;
}

/** A figure that opens its journeys. */
export function FigureButton({ figure, chosen, onChoose, title, children }: Props) {
  return (
    <button
      type="button"
      className={`figure-button ${figure === chosen ? "chosen" : ""}`}
      aria-pressed={figure === chosen}
      data-figure={figure}
      title={title}
      onClick={() => onChoose(figure)}
    >
      {children}
    </button>
  );
}

interface OpenProps {
  figure: string;
  /** The measure it is of, where a page has several. */
  of?: string | null;
  title?: string;
  children: ReactNode;
}

/** A figure of the page's own address. */
export function OpenFigure({ of = null, ...own }: OpenProps) {
  const [chosen, choose] = useFigure(of);
  return <FigureButton {...own} chosen={chosen} onChoose={choose} />;
}
