import type { ReactNode } from "react";

export interface Choosing {
  chosen: string | null;
  onChoose: (figure: string) => void;
}

interface Props extends Choosing {
  figure: string;
  /** What it says, for those who cannot see it, and on the pointer's way. */
  said: string;
  /** Whether the keyboard halts at it by itself; else the drawing leads there. */
  stop?: boolean;
  children: ReactNode;
}

/** A part of a drawing that opens the journeys it stands for. */
export function DrawnFigure({ figure, said, stop = true, chosen, onChoose, children }: Props) {
  return (
    // biome-ignore lint/a11y/useSemanticElements: a part of a drawing
    <g
      role="button"
      tabIndex={stop ? 0 : -1}
      className={`figure ${chosen === figure ? "chosen" : ""}`}
      data-figure={figure}
      onClick={() => onChoose(figure)}
      onKeyDown={(event) => {
        if (event.key === "Enter" || event.key === " ") {
          event.preventDefault();
          onChoose(figure);
        }
      }}
    >
      <title>{`${said}; opens its journeys`}</title>
      {children}
    </g>
  );
}
