import type { AppSummary, Schemas } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { count, duration, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { type Column, middle, name, opens, ways } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { OpenFigure } from "../../shell/FigureButton";
import { CHAIN_WAYS, USER_ENDS } from "./words";

type Screen = Schemas["OnboardingFigures"]["screens"][number];

const CHAIN: Column<Screen>[] = [
  name("screen", (screen) => screen.screen),
  opens("sessions", (screen) => ({ figure: screen.cell, n: screen.sessions }), "onboarding"),
  middle("middle stay", (screen) => screen.dwell),
  ...ways<Screen>(CHAIN_WAYS, "onboarding", (screen) => ({
    figure: screen.cell,
    shares: screen.ways,
  })),
];

/** What became of the users who began, and each screen of the chain by itself. */
export function ChainTable({ app }: { app: AppSummary }) {
  const scope = useScope();
  const found = useMeasure(app.key, "onboarding", scope).data?.whole;
  if (!found?.begun) {
    return null;
  }
  return (
    <section className="mt-3">
      <p className="mb-2" data-testid="user-ends">
        Of {count(found.begun, "user")} who began:{" "}
        {Object.entries(found.ends).map(([end, share], i) => (
          <span key={end}>
            {i > 0 && " · "}
            <OpenFigure figure={`user.${end}`} of="onboarding">
              {count(share.count)}
            </OpenFigure>{" "}
            {USER_ENDS[end]} <span className="soft">({percent(share.count / share.of)})</span>
          </span>
        ))}
        {found.later_took && (
          <span className="soft">
            {" "}
            Those who finished in a later session took {duration(found.later_took.median)} in the
            middle.
          </span>
        )}
      </p>
      <DataTable
        name={`${app.key}-onboarding-screens`}
        title="Each screen by itself"
        columns={CHAIN}
        rows={found.screens}
        id={(screen) => screen.cell}
        testid="chain"
      />
      <p className="soft small-text">
        Sessions in which a screen was left so at least once: going back and on again counts under
        both.
      </p>
    </section>
  );
}
