import { useFit } from "../../api/queries";
import { count, words } from "../../format";
import { type Column, text } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { FigureButton } from "../../shell/FigureButton";
import { type Fit, type Misfit, misfitFigure, shareOf } from "./words";

interface Props {
  app: string;
  figure: string | null;
  onFigure: (figure: string) => void;
}

/** Which moves misfit most often, and how the misfits lie over moves, screens and versions. */
export function Misfits({ app, figure, onFigure }: Props) {
  const { data: fit } = useFit(app);
  if (!fit || fit.landed === fit.told) {
    return null;
  }
  const open = <Row,>(title: string, of: (row: Row) => [string, number]): Column<Row> => ({
    title,
    value: (row) => of(row)[1],
    numeric: true,
    cell: (row) => (
      <FigureButton figure={of(row)[0]} chosen={figure} onChoose={onFigure}>
        {count(of(row)[1])}
      </FigureButton>
    ),
  });
  const groups = [
    { kind: "move", title: "move", list: fit.by_move },
    { kind: "screen", title: "landed on", list: fit.by_screen },
    { kind: "value", title: fit.by, list: fit.by_value },
  ];
  const key = (kind: string, of: string) =>
    JSON.stringify(kind === "value" ? [kind, fit.by, of] : [kind, of]);
  return (
    <section className="d-flex flex-wrap column-gap-5 align-items-start">
      <div className="min-w-0">
        <DataTable
          name={`${app}-misfits`}
          title="Moves that landed elsewhere, the most frequent"
          columns={[
            open<Misfit>("moves", (one) => [misfitFigure(one), one.steps]),
            text<Misfit>("move", (one) => words(one.move)),
            or<Misfit>("from", (one) => one.from, "the start"),
            or<Misfit>("was to lead to", (one) => one.expected, "nothing: out of the app"),
            text<Misfit>("led to", (one) => one.came),
          ]}
          rows={fit.misfits}
          id={misfitFigure}
          testid="misfits"
        />
      </div>
      <div className="min-w-0">
        {groups.map(({ kind, title, list }) => {
          const some = list.filter((one) => one.landed < one.told);
          return (
            some.length > 0 && (
              <DataTable
                key={kind}
                columns={[
                  or<Told>(
                    title,
                    (one) => (kind === "move" ? words(one.name) : one.name),
                    "unknown",
                  ),
                  {
                    title: "as predicted",
                    value: (one: Told) => one.landed / one.told,
                    cell: (one: Told) => shareOf(one.landed, one.told),
                    numeric: true,
                  },
                  open<Told>("elsewhere", (one) => [key(kind, one.name), one.told - one.landed]),
                ]}
                rows={some}
                id={(one) => one.name}
              />
            )
          );
        })}
      </div>
    </section>
  );
}

type Told = Fit["by_move"][number];

/** A name, or what it is where there is none. */
function or<Row>(title: string, of: (row: Row) => string | null, none: string): Column<Row> {
  return { ...text(title, of), cell: (row) => of(row) || <span className="soft">{none}</span> };
}
