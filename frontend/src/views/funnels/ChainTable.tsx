import type { AppSummary } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { count, duration, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { FigureButton } from "../../shell/FigureButton";
import { CHAIN_WAYS, USER_ENDS } from "./words";

/** What became of the users who began, and each screen of the chain by itself. */
export function ChainTable({ app }: { app: AppSummary }) {
  const scope = useScope();
  const found = useMeasure(app.key, "onboarding", scope).data?.whole;
  const [figure, choose] = useFigure("onboarding");
  if (!found?.begun) {
    return null;
  }
  const ways = Object.keys(CHAIN_WAYS);
  return (
    <section className="mt-3">
      <p className="mb-2" data-testid="user-ends">
        Of {count(found.begun, "user")} who began:{" "}
        {Object.entries(found.ends).map(([end, share], i) => (
          <span key={end}>
            {i > 0 && " · "}
            <FigureButton figure={`user.${end}`} chosen={figure} onChoose={choose}>
              {count(share.count)}
            </FigureButton>{" "}
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
      <table className="table table-sm plain" data-testid="chain">
        <thead>
          <tr>
            <th>screen</th>
            <th className="n">sessions</th>
            <th className="n">middle stay</th>
            {ways.map((way) => (
              <th key={way} className="n">
                {CHAIN_WAYS[way]}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {found.screens.map((screen) => (
            <tr key={screen.cell}>
              <td>{screen.screen}</td>
              <td className="n">
                <FigureButton figure={screen.cell} chosen={figure} onChoose={choose}>
                  {count(screen.sessions)}
                </FigureButton>
              </td>
              <td className="n">{screen.dwell && duration(screen.dwell.median)}</td>
              {ways.map((way) => {
                const share = screen.ways[way];
                return (
                  <td key={way} className="n">
                    {share?.count ? (
                      <>
                        <FigureButton
                          figure={`${screen.cell}.${way}`}
                          chosen={figure}
                          onChoose={choose}
                        >
                          {count(share.count)}
                        </FigureButton>{" "}
                        <span className="soft small-text">{percent(share.count / share.of)}</span>
                      </>
                    ) : (
                      <span className="soft">–</span>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="soft small-text">
        Sessions in which a screen was left so at least once: going back and on again counts under
        both.
      </p>
    </section>
  );
}
