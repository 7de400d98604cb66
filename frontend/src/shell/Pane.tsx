import { type ReactNode, useEffect, useRef } from "react";

interface Props {
  label: string;
  title: ReactNode;
  /** Stands under the title. */
  head?: ReactNode;
  wide?: boolean;
  onClose: () => void;
  children: ReactNode;
}

/**
 * What opens beside the view: it never hides the figure that it explains. Escape closes it.
 *
 * Opened by keyboard, it is gone to; closed, one is back at what opened it.
 */
export function Pane({ label, title, head, wide, onClose, children }: Props) {
  useEffect(() => {
    function onKey(event: KeyboardEvent) {
      if (event.key === "Escape") {
        onClose();
      }
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [onClose]);
  const pane = useRef<HTMLElement>(null);
  useEffect(() => {
    const opener = document.activeElement;
    if (opener instanceof Element && opener.matches("main :focus-visible")) {
      pane.current?.focus();
    }
    const own = pane.current;
    return () => {
      const left =
        own?.contains(document.activeElement) || document.activeElement === document.body;
      if (left && (opener instanceof HTMLElement || opener instanceof SVGElement)) {
        opener.focus();
      }
    };
  }, []);
  return (
    <aside className={`pane ${wide ? "wide" : ""}`} aria-label={label} ref={pane} tabIndex={-1}>
      <header>
        <div className="d-flex justify-content-between gap-2">
          <span>{title}</span>
          <button
            type="button"
            className="quiet align-self-start"
            aria-label="Close"
            onClick={onClose}
          >
            <i className="bi bi-x-lg" />
          </button>
        </div>
        {head}
      </header>
      {children}
    </aside>
  );
}

interface MoreProps {
  total: number;
  limit: number;
  /** What is said where no more are shown. */
  rest?: string;
  onLimit: (limit: number) => void;
}

export const ROWS_AT_FIRST = 50;
const MOST_ROWS = 200;

/** Under a list of rows: shows more of them, up to what a person would read. */
export function MoreRows({ total, limit, rest = "", onLimit }: MoreProps) {
  if (total <= limit) {
    return null;
  }
  return (
    <button
      type="button"
      className="figure-button"
      disabled={limit >= MOST_ROWS}
      onClick={() => onLimit(Math.min(limit + ROWS_AT_FIRST, MOST_ROWS))}
    >
      {limit < MOST_ROWS ? "show more" : `the first ${MOST_ROWS} are shown${rest}`}
    </button>
  );
}
