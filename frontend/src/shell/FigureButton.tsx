import type { ReactNode } from "react";

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
