import {
  columnFilteringFeature,
  createFilteredRowModel,
  createSortedRowModel,
  filterFn_includesString,
  globalFilteringFeature,
  rowSortingFeature,
  sortFn_text,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import { type ReactNode, useState } from "react";
import { count } from "../format";
import { useCounted } from "../scope/useCounted";
import type { Column, Counted, Value } from "./columns";
import { PlainTable } from "./PlainTable";
import { Csv } from "./TakeAway";

const features = tableFeatures({
  columnFilteringFeature,
  globalFilteringFeature,
  rowSortingFeature,
  filteredRowModel: createFilteredRowModel(),
  sortedRowModel: createSortedRowModel(),
  filterFns: { includesString: filterFn_includesString },
  sortFns: { text: sortFn_text },
});

/** Without so many rows, one sees at once what one looks for. */
const WORTH_A_SEARCH = 20;
const AT_FIRST = 40;

export interface TableProps<Row> {
  /** What its file is called; a table of a picture leaves the file to that. */
  name?: string;
  title?: ReactNode;
  choices?: ReactNode;
  columns: Column<Row>[];
  rows: Row[];
  /** What a row is known by. */
  id: (row: Row) => string;
  testid?: string;
  first?: number;
  /** How a row is set off from those above it. */
  rowClass?: (row: Row) => string;
  /** Lines below all rows, however these are sorted. */
  foot?: ReactNode;
}

/** A table that sorts by its headings, is searched, and is taken along as a file. */
export function DataTable<Row extends object>(props: TableProps<Row>) {
  const { name, title, choices, rows, id, testid, first = AT_FIRST, rowClass, foot } = props;
  const [all, setAll] = useState(false);
  const counted = useCounted();
  const columns = props.columns.filter((column) => !column.fileOnly);
  const table = useTable({
    features,
    data: rows,
    columns: columns.map((column, i) => ({
      id: String(i),
      accessorFn: (row: Row) => column.value(row, counted) ?? undefined,
      sortUndefined: "last" as const,
      sortDescFirst: column.numeric,
    })),
    globalFilterFn: "includesString",
    getColumnCanGlobalFilter: () => true,
    getRowId: id,
  });
  const found = table.getRowModel().rows;
  const shown = all ? found : found.slice(0, first);
  const searched = rows.length > WORTH_A_SEARCH;
  return (
    <>
      {(title || choices || searched || name) && (
        <div className="d-flex flex-wrap column-gap-3 align-items-baseline mb-1">
          {title && <h2 className="mb-0">{title}</h2>}
          {choices}
          <span className="ms-auto d-inline-flex gap-3 align-items-baseline small-text">
            {searched && (
              <input
                type="search"
                className="form-control form-control-sm search-rows"
                placeholder={`search ${count(rows.length, "row")}`}
                aria-label={`Search ${testid ?? "the table"}`}
                onChange={(event) => table.setGlobalFilter(event.target.value)}
              />
            )}
            {name && <Csv name={name} rows={() => sheet(props.columns, rows, counted)} />}
          </span>
        </div>
      )}
      <PlainTable testid={testid}>
        <thead>
          <tr>
            {columns.map((column, i) => (
              <Heading key={column.title} column={column} of={table.getColumn(String(i))} />
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map((row) => (
            <tr key={row.id} className={rowClass?.(row.original)}>
              {columns.map((column) => (
                <Cell key={column.title} column={column} row={row.original} counted={counted} />
              ))}
            </tr>
          ))}
        </tbody>
        {foot && <tfoot>{foot}</tfoot>}
      </PlainTable>
      {shown.length < found.length && (
        <button type="button" className="figure-button mb-2" onClick={() => setAll(true)}>
          show all {count(found.length)}
        </button>
      )}
    </>
  );
}

interface HeadingProps<Row> {
  column: Column<Row>;
  of:
    | { getIsSorted: () => false | "asc" | "desc"; toggleSorting: (descending?: boolean) => void }
    | undefined;
}

function Heading<Row>({ column, of }: HeadingProps<Row>) {
  const sorted = of?.getIsSorted();
  return (
    <th
      className={column.numeric ? "n" : ""}
      title={column.about}
      aria-sort={sorted === "asc" ? "ascending" : sorted === "desc" ? "descending" : undefined}
    >
      <button type="button" className="heading" onClick={() => of?.toggleSorting()}>
        {column.title}
        {sorted && <i className={`bi bi-caret-${sorted === "asc" ? "up" : "down"}-fill`} />}
      </button>
    </th>
  );
}

interface CellProps<Row> {
  column: Column<Row>;
  row: Row;
  counted: Counted;
}

function Cell<Row>({ column, row, counted }: CellProps<Row>) {
  const value = column.value(row, counted);
  const looks = [column.numeric && "n", column.width && "clip", column.soft && "soft text-nowrap"];
  return (
    <td
      className={looks.filter(Boolean).join(" ")}
      style={column.width ? { maxWidth: column.width } : undefined}
      title={column.width ? String(value ?? "") : undefined}
    >
      {column.cell ? column.cell(row) : value}
    </td>
  );
}

/** The table as its file holds it, with its head. */
export function sheet<Row>(columns: Column<Row>[], rows: Row[], counted: Counted): Value[][] {
  const own = columns.filter((column) => !column.pageOnly);
  return [
    own.map((column) => column.inFile ?? column.title),
    ...rows.map((row) => own.map((column) => column.value(row, counted) ?? null)),
  ];
}
