import { type ReactNode, useRef } from "react";
import { TakeAway } from "./TakeAway";

interface Props {
  /** What its files are called. */
  name: string;
  title: string;
  /** The table of its figures, with its head. */
  rows: () => (string | number | null)[][];
  /** What changes it. */
  choices?: ReactNode;
  children: ReactNode;
}

/** A drawing under its title, to be taken along as a picture or as a table. */
export function Picture({ name, title, rows, choices, children }: Props) {
  const chart = useRef<HTMLDivElement>(null);
  return (
    <section className="mb-3">
      <div className="d-flex flex-wrap column-gap-3 align-items-baseline mb-1">
        <h2 className="mb-0">{title}</h2>
        {choices}
        <span className="ms-auto">
          <TakeAway name={name} chart={chart} rows={rows} />
        </span>
      </div>
      <div ref={chart}>{children}</div>
    </section>
  );
}
