import type { AppSummary } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { count, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { FigureButton } from "../../shell/FigureButton";
import { CAUSES, DETOURS, GATE_ENDS } from "./words";

/** What sent people to sign in and what came of it, and how many tries it took. */
export function Gates({ app }: { app: AppSummary }) {
  const scope = useScope();
  const found = useMeasure(app.key, "gates", scope).data?.whole;
  const [figure, choose] = useFigure("gates");
  const button = (own: string, n: number) => (
    <FigureButton figure={own} chosen={figure} onChoose={choose}>
      {count(n)}
    </FigureButton>
  );
  if (!found) {
    return null;
  }
  const gates = found.causes.filter((cause) => cause.gates > 0);
  const got = found.needed.reduce((sum, n) => sum + n, 0);
  return (
    <section className="mt-3">
      {gates.length > 0 && (
        <>
          <h2>Sent to sign in</h2>
          <table className="table table-sm plain" data-testid="gates">
            <thead>
              <tr>
                <th>since the user</th>
                <th className="n">times</th>
                {Object.values(GATE_ENDS).map((said) => (
                  <th key={said} className="n">
                    {said}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {gates.map((cause) => (
                <tr key={cause.cause}>
                  <td>{CAUSES[cause.cause]}</td>
                  <td className="n">{button(cause.cause, cause.gates)}</td>
                  {Object.keys(GATE_ENDS).map((end) => {
                    const share = cause.outcomes[end];
                    return (
                      <td key={end} className="n">
                        {share?.count ? (
                          <>
                            {button(`${cause.cause}.${end}`, share.count)}{" "}
                            <span className="soft small-text">
                              {percent(share.count / share.of)}
                            </span>
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
        </>
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
