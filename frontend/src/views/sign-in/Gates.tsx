import type { AppSummary, Schemas } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { count, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { type Column, opens, ways } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { OpenFigure } from "../../shell/FigureButton";
import { CAUSES, DETOURS, GATE_ENDS } from "./words";

type Cause = Schemas["GateFigures"]["causes"][number];

const GATES: Column<Cause>[] = [
  { title: "since the user", value: (cause) => CAUSES[cause.cause] },
  opens("times", (cause) => ({ figure: cause.cause, n: cause.gates }), "gates"),
  ...ways<Cause>(GATE_ENDS, "gates", (cause) => ({
    figure: cause.cause,
    shares: cause.outcomes,
  })),
];

/** What sent people to sign in and what came of it, and how many tries it took. */
export function Gates({ app }: { app: AppSummary }) {
  const scope = useScope();
  const found = useMeasure(app.key, "gates", scope).data?.whole;
  const button = (own: string, n: number) => (
    <OpenFigure figure={own} of="gates">
      {count(n)}
    </OpenFigure>
  );
  if (!found) {
    return null;
  }
  const gates = found.causes.filter((cause) => cause.gates > 0);
  const got = found.needed.reduce((sum, n) => sum + n, 0);
  return (
    <section className="mt-3">
      {gates.length > 0 && (
        <DataTable
          name={`${app.key}-gates`}
          title="Sent to sign in"
          columns={GATES}
          rows={gates}
          id={(cause) => cause.cause}
          testid="gates"
        />
      )}
      {Object.entries(found.detours).map(
        ([kind, share]) =>
          share.of > 0 && (
            <p key={kind} className="mb-1">
              {button(kind, share.of)} sessions {DETOURS[kind]}: {button(`${kind}.in`, share.count)}{" "}
              ({percent(share.count / share.of)}) of them got in after it.
            </p>
          ),
      )}
      {found.tries > 0 && (
        <p>
          Of {button("tries", found.tries)} tries, {button("failed", found.failed.count)} failed (
          {percent(found.failed.count / found.failed.of)}).{" "}
          {got > 0 && (
            <>
              Got in at the first try:{" "}
              {found.needed.map((n, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: tries are in their order
                <span key={i}>
                  {i > 0 &&
                    n > 0 &&
                    ` · at the ${["", "second", "third", "fourth", "fifth or later"][i]}: `}
                  {n > 0 && button(`needed.${i + 1}`, n)}
                </span>
              ))}{" "}
              sessions.
            </>
          )}
        </p>
      )}
    </section>
  );
}
