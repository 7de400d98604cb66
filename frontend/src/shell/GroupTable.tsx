import type { Schemas } from "../api/client";
import type { Groups } from "../api/queries";
import { count, duration, signed } from "../format";
import { useFigureOf } from "../scope/useFigure";
import { FigureButton } from "./FigureButton";
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
  groups: Groups;
  columns: GroupColumn<Figures>[];
  small?: (figures: Figures) => boolean;
}

/** The main figures for each value of a property, and of two of them the difference. */
export function GroupTable<Figures>(props: Props<Figures>) {
  const { measured, groups, columns, small } = props;
  const by = groups.by ?? "";
  const [opened, choose] = useFigureOf(by);
  const two = groups.one === undefined ? null : [groups.one, groups.other ?? ""];
  const rows = two ? measured.groups.filter((one) => two.includes(one.value)) : measured.groups;
  if (!by) {
    return null;
  }
  return (
    <>
      <table className="table table-sm plain mt-2" data-testid="groups">
        <thead>
          <tr>
            <th>{by}</th>
            {columns.map((column) => (
              <th key={column.title} className={column.share ? "" : "n"}>
                {column.title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(({ value, figures }) => (
            <tr key={value}>
              <td className="clip" style={{ maxWidth: "12rem" }}>
                {value || <span className="soft">not told</span>}
                {small?.(figures) && <span className="soft small-text"> too few</span>}
              </td>
              {columns.map((column) => (
                <Cell
                  key={column.title}
                  column={column}
                  figures={figures}
                  most={mostOf(rows, column)}
                  chosen={opened(value)}
                  onChoose={(figure) => choose(figure, value)}
                />
              ))}
            </tr>
          ))}
          {two && measured.between && (
            <tr data-testid="between">
              <td className="soft">
                {two[0] || "not told"} less {two[1] || "not told"}
              </td>
              {columns.map((column) => {
                const gap = column.path ? measured.between?.[column.path] : undefined;
                return (
                  <td key={column.title}>
                    {gap && (
                      <span className={gap.low > 0 || gap.high < 0 ? "fw-semibold" : "soft"}>
                        {signed(gap.difference)}{" "}
                        <span className="soft small-text fw-normal">
                          ({signed(gap.low)} to {signed(gap.high)})
                        </span>
                      </span>
                    )}
                  </td>
                );
              })}
            </tr>
          )}
        </tbody>
      </table>
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

interface CellProps<Figures> {
  column: GroupColumn<Figures>;
  figures: Figures;
  most: number;
  chosen: string | null;
  onChoose: (figure: string) => void;
}

function Cell<Figures>({ column, figures, most, chosen, onChoose }: CellProps<Figures>) {
  const share = column.share?.(figures);
  const number = column.count?.(figures) ?? share?.count;
  const time = column.time?.(figures);
  const figure = column.figure?.(figures);
  return (
    <td className={column.share ? "" : "n"}>
      <span className="d-inline-flex gap-2 align-items-center text-nowrap">
        {share && <ShareCell share={share} most={most} colour={column.colour} />}
        {number !== undefined &&
          (figure ? (
            <FigureButton figure={figure} chosen={chosen} onChoose={onChoose}>
              {count(number)}
            </FigureButton>
          ) : (
            <span className="soft">{count(number)}</span>
          ))}
        {typeof time === "number" && <span className="soft">{duration(time)}</span>}
      </span>
    </td>
  );
}
