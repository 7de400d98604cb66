import type { ReactNode } from "react";
import type { Count, Schemas } from "../api/client";
import { count, duration, percent, shownName } from "../format";
import { CountButton } from "./CountButton";
import { OpenFigure } from "./FigureButton";
import { ShareCell } from "./ShareCell";

/** Times, or users, as the scope counts. */
export type Counted = (own: Count) => number;
export type Value = string | number | null | undefined;

/** One column of a table, on the page and in its file. */
export interface Column<Row> {
  title: string;
  /** What rows are sorted and found by, and what the file holds. */
  value: (row: Row, counted: Counted) => Value;
  /** How it is shown, if not as it is. */
  cell?: (row: Row) => ReactNode;
  numeric?: boolean;
  /** So wide a name may be before it is cut short. */
  width?: string;
  soft?: boolean;
  /** What the title means. */
  about?: string;
  /** What it is called in the file, with the unit of its values. */
  inFile?: string;
  fileOnly?: boolean;
  pageOnly?: boolean;
}

type Quartiles = { median: number; first: number; third: number } | null | undefined;
type Share = { count: number; of: number } | null | undefined;

const NONE = <span className="soft">–</span>;
const part = (share: Share) => (share?.of ? share.count / share.of : null);

export function name<Row>(title: string, of: (row: Row) => string, width = "16rem"): Column<Row> {
  return { title, value: of, width, cell: (row) => shownName(of(row)) };
}

export function text<Row>(title: string, of: (row: Row) => string | null): Column<Row> {
  return { title, value: of };
}

export function number<Row>(title: string, of: (row: Row) => Value): Column<Row> {
  const cell = (row: Row) => {
    const found = of(row);
    return typeof found === "number" ? count(found) : NONE;
  };
  return { title, value: of, numeric: true, cell };
}

/** How often something happened, or to how many users; opens its journeys. */
export function times<Row>(title: string, of: (row: Row) => Count | undefined): Column<Row> {
  return {
    title,
    numeric: true,
    value: (row, counted) => {
      const own = of(row);
      return own ? counted(own) : 0;
    },
    cell: (row) => <CountButton own={of(row)} />,
  };
}

/** A number that opens the journeys of a figure, and its share of what it is a part of. */
export function opens<Row>(
  title: string,
  of: (row: Row) => { figure: string; n: number; share?: Share } | undefined,
  measure: string | null = null,
): Column<Row> {
  const cell = (row: Row) => {
    const own = of(row);
    const share = part(own?.share);
    return own?.n ? (
      <>
        <OpenFigure figure={own.figure} of={measure}>
          {count(own.n)}
        </OpenFigure>
        {share !== null && <span className="soft small-text"> {percent(share)}</span>}
      </>
    ) : (
      NONE
    );
  };
  return { title, value: (row) => of(row)?.n ?? 0, numeric: true, cell };
}

/** A column for each way, with those that went it and their share; each opens its journeys. */
export function ways<Row>(
  words: Record<string, string>,
  measure: string,
  of: (row: Row) => { figure: string; shares: Record<string, Schemas["Share"]> },
): Column<Row>[] {
  return Object.entries(words).map(([way, title]) =>
    opens<Row>(
      title,
      (row) => {
        const { figure, shares } = of(row);
        const own = shares[way];
        return own && { figure: `${figure}.${way}`, n: own.count, share: own };
      },
      measure,
    ),
  );
}

export function share<Row>(title: string, of: (row: Row) => Share): Column<Row> {
  const cell = (row: Row) => {
    const found = part(of(row));
    return found === null ? NONE : percent(found);
  };
  return { title, value: (row) => part(of(row)), numeric: true, cell };
}

/** The 95 % interval of a share. */
export function interval<Row>(of: (row: Row) => Schemas["Share"] | null): Column<Row> {
  const cell = (row: Row) => {
    const found = of(row);
    return found?.of ? `${percent(found.low)} – ${percent(found.high)}` : "";
  };
  return { title: "95 %", value: cell, cell, soft: true };
}

export function bar<Row>(
  title: string,
  of: (row: Row) => Schemas["Share"] | undefined,
  most: number,
): Column<Row> {
  const cell = (row: Row) => {
    const found = of(row);
    return found ? <ShareCell share={found} most={most} /> : NONE;
  };
  return { title, value: (row) => part(of(row)), cell };
}

/** The middle one of times. */
export function middle<Row>(title: string, of: (row: Row) => Quartiles): Column<Row> {
  const cell = (row: Row) => {
    const found = of(row);
    return found ? duration(found.median) : NONE;
  };
  const value = (row: Row) => of(row)?.median;
  return { title, value, numeric: true, cell, inFile: `${title}, ms` };
}

/** Between which times the half lies that is nearest to the middle; the file has both of them. */
export function half<Row>(title: string, of: (row: Row) => Quartiles): Column<Row>[] {
  const cell = (row: Row) => {
    const found = of(row);
    return found ? `${duration(found.first)} – ${duration(found.third)}` : "";
  };
  const third = (row: Row) => of(row)?.third;
  return [
    { title, value: third, numeric: true, soft: true, cell, pageOnly: true },
    { title: `${title}: from, ms`, value: (row) => of(row)?.first, fileOnly: true },
    { title: `${title}: to, ms`, value: third, fileOnly: true },
  ];
}
