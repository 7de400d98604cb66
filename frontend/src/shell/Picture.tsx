import { type ReactNode, useRef, useState } from "react";
import { useCounted } from "../scope/useCounted";
import { DataTable, sheet, type TableProps } from "./DataTable";
import { TakeAway } from "./TakeAway";

interface Props<Row> {
  /** What its files are called. */
  name: string;
  title: string;
  /** Its figures. */
  table: TableProps<Row>;
  /** Whether the table stands below the drawing; else it takes its place when it is asked for. */
  below?: boolean;
  /** What changes it. */
  choices?: ReactNode;
  children: ReactNode;
}

/** A drawing under its title, with its table; to be taken along as a picture or as a file. */
export function Picture<Row extends object>(props: Props<Row>) {
  const { name, title, table, below = false, choices, children } = props;
  const chart = useRef<HTMLDivElement>(null);
  const [asTable, setAsTable] = useState(false);
  const counted = useCounted();
  return (
    <section className="mb-3">
      <div className="d-flex flex-wrap column-gap-3 align-items-baseline mb-1">
        <h2 className="mb-0">{title}</h2>
        {choices}
        <span className="ms-auto d-inline-flex gap-3 align-items-baseline small-text">
          {!below && (
            <button
              type="button"
              className="figure-button"
              aria-pressed={asTable}
              onClick={() => setAsTable(!asTable)}
            >
              {asTable ? "picture" : "table"}
            </button>
          )}
          <TakeAway
            name={name}
            chart={chart}
            rows={() => sheet(table.columns, table.rows, counted)}
          />
        </span>
      </div>
      <div className="scrolls" ref={chart} hidden={asTable}>
        {children}
      </div>
      {(below || asTable) && <DataTable {...table} />}
    </section>
  );
}
