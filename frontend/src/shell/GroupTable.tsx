import type { ReactNode } from "react";
import type { Schemas } from "../api/client";
import type { Groups } from "../api/queries";
import { count, duration, signed } from "../format";
import { useAddress } from "../scope/scope";
import { partsOf, written } from "../scope/segment";
import { useFigureOf } from "../scope/useFigure";
import type { Column } from "./columns";
import { DataTable } from "./DataTable";
import { FigureButton } from "./FigureButton";
import { GroupChoice } from "./GroupChoice";
import { ShareCell } from "./ShareCell";

type Share = Schemas["Share"];

/** A figure of each group. */
export interface GroupColumn<Figures> {
  title: string;
  /** How many; opens its journeys where `figure` says which. */
  count?: (figures: Figures) => number | undefined;
  /** A share, and where it stands among the figures, for the difference of two groups. */
  share?: (figures: Figures) => Share | undefined;
  path?: string;
  /** A time in milliseconds. */
  time?: (figures: Figures) => number | null | undefined;
  figure?: (figures: Figures) => string | undefined;
  colour?: string;
}

export interface GroupsOf<Figures> {
  groups: { value: string; figures: Figures }[];
  groups_left_out: number;
  between: Record<string, Schemas["Difference"]> | null;
}

interface Props<Figures> {
  measured: GroupsOf<Figures>;
  app: string;
  groups: Groups;
  columns: GroupColumn<Figures>[];
  small?: (figures: Figures) => boolean;
  /** What else can be chosen of them. */
  choices?: ReactNode;
}

/** The choice of a property; the main figures for each of its values, and of two the difference. */
export function GroupTable<Figures>(props: Props<Figures>) {
  const { app, measured, groups, columns, small, choices } = props;
  const by = groups.by ?? "";
  const [opened, choose] = useFigureOf(by);
  const [address, change] = useAddress();
  const only = (value: string) =>
    change({
      segment: written([
        ...partsOf(address.get("segment") ?? undefined),
        { property: by, values: [value] },
      ]),
      ...{ by: null, one: null, other: null, figure: null },
    });
  const two = groups.one === undefined ? null : [groups.one, groups.other ?? ""];
  const rows = two ? measured.groups.filter((one) => two.includes(one.value)) : measured.groups;
  const choice = (
    <GroupChoice app={app} groups={groups} values={measured.groups.map((one) => one.value)} />
  );
  if (!by) {
    return choice;
  }
  return (
    <>
      <DataTable
        name={`by-${by}`}
        choices={
          <>
            {choice}
            {choices}
          </>
        }
        columns={[
          {
            title: by,
            value: ({ value }) => value,
            width: "12rem",
            cell: ({ value, figures }) => (
              <>
                <button
                  type="button"
                  className="figure-button"
                  title="Only journeys of it"
                  onClick={() => only(value)}
                >
                  {value || "not told"}
                </button>
                {small?.(figures) && <span className="soft small-text"> too few</span>}
              </>
            ),
          },
          ...columns.flatMap((column) => told(column, mostOf(rows, column), opened, choose)),
        ]}
        rows={rows}
        id={({ value }) => value}
        testid="groups"
        foot={
          two &&
          measured.between && (
            <tr data-testid="between">
              <td className="soft">
                {two[0] || "not told"} less {two[1] || "not told"}
              </td>
              {columns.map((column) => (
                <td key={column.title}>
                  <Gap gap={column.path ? measured.between?.[column.path] : undefined} />
                </td>
              ))}
            </tr>
          )
        }
      />
      <p className="soft small-text">
        {measured.groups_left_out > 0 &&
          `${count(measured.groups_left_out, "smaller group")} not shown. `}
        {two && "Differences with their 95 % intervals; bold where they are beyond chance."}
      </p>
    </>
  );
}

function mostOf<Figures>(rows: { figures: Figures }[], column: GroupColumn<Figures>): number {
  const shares = rows.map((row) => column.share?.(row.figures));
  return Math.max(...shares.map((share) => (share?.of ? share.count / share.of : 0)), 0.001);
}

type Row<Figures> = { value: string; figures: Figures };

/** The column on the page, and beside it in the file how many its shares and times are of. */
function told<Figures>(
  column: GroupColumn<Figures>,
  most: number,
  opened: (value: string) => string | null,
  choose: (figure: string, value: string) => void,
): Column<Row<Figures>>[] {
  const { title } = column;
  const number = (figures: Figures) => column.count?.(figures) ?? column.share?.(figures)?.count;
  const main = (figures: Figures) => {
    const share = column.share?.(figures);
    return share ? share.count / (share.of || 1) : (column.time?.(figures) ?? number(figures));
  };
  const unit = column.share ? ", share" : column.time ? ", ms" : "";
  const shown: Column<Row<Figures>> = {
    title,
    value: ({ figures }) => main(figures),
    inFile: `${title}${unit}`,
    numeric: !column.share,
    cell: ({ value, figures }) => (
      <Cell
        column={column}
        figures={figures}
        number={number(figures)}
        most={most}
        chosen={opened(value)}
        onChoose={(figure) => choose(figure, value)}
      />
    ),
  };
  const of: Column<Row<Figures>> = {
    title: `${title}, n`,
    value: ({ figures }) => number(figures),
    fileOnly: true,
  };
  return unit ? [shown, of] : [shown];
}

interface CellProps<Figures> {
  column: GroupColumn<Figures>;
  figures: Figures;
  number: number | undefined;
  most: number;
  chosen: string | null;
  onChoose: (figure: string) => void;
}

function Cell<Figures>({ column, figures, number, most, chosen, onChoose }: CellProps<Figures>) {
  const share = column.share?.(figures);
  const time = column.time?.(figures);
  const figure = column.figure?.(figures);
  return (
    <span className="d-inline-flex gap-2 align-items-center text-nowrap">
      {share && <ShareCell share={share} most={most} colour={column.colour} />}
      {number !== undefined &&
        (figure && number > 0 ? (
          <FigureButton figure={figure} chosen={chosen} onChoose={onChoose}>
            {count(number)}
          </FigureButton>
        ) : (
          <span className="soft">{count(number)}</span>
        ))}
      {typeof time === "number" && <span className="soft">{duration(time)}</span>}
    </span>
  );
}

function Gap({ gap }: { gap: Schemas["Difference"] | undefined }) {
  return (
    gap && (
      <span className={gap.low > 0 || gap.high < 0 ? "fw-semibold" : "soft"}>
        {signed(gap.difference)}{" "}
        <span className="soft small-text fw-normal">
          ({signed(gap.low)} to {signed(gap.high)})
        </span>
      </span>
    )
  );
}
