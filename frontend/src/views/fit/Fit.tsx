import { useState } from "react";
import { Button } from "react-bootstrap";
import type { AppSummary } from "../../api/client";
import { useFit, useMends, useTakeMend, useTakeVersion } from "../../api/queries";
import { count, percent } from "../../format";
import type { Scope } from "../../scope/scope";
import { PlainTable } from "../../shell/PlainTable";
import { ForRole } from "../../shell/role";
import { Trouble } from "../../shell/states";
import { type Fit, type Mend, mendWords, shareOf } from "./words";

export const WHOLE: Scope = { unit: "sessions" };

interface Props {
  app: AppSummary;
  /** The figure that is open, and how to open one; without, figures are not shown apart. */
  figure?: string | null;
  onFigure?: (figure: string) => void;
}

/** How well the replay fits the log, and the change of the map that would mend most of it. */
export function FitLine({ app, figure = null, onFigure }: Props) {
  const found = useFit(app.key);
  const misfits = found.data ? found.data.told - found.data.landed : 0;
  if (found.isPending || found.isError || !found.data.steps) {
    return found.isError ? <Trouble problem={found.error} /> : null;
  }
  const fit = found.data;
  return (
    <section className="fit column mt-2" data-testid="fit" aria-label="How well the replay fits">
      {fit.told > 0 ? (
        <p className="mb-1">
          <Gauge share={fit.landed / fit.told} />
          <span className="fw-semibold" data-testid="fit-share">
            {shareOf(fit.landed, fit.told)}
          </span>{" "}
          of {count(fit.told, "move")} that rows tell landed where the stack of the moment said they
          would
          {misfits > 0 && (
            <>
              ;{" "}
              {onFigure ? (
                <button
                  type="button"
                  className={`figure-button ${figure === "[]" ? "chosen" : ""}`}
                  data-figure="[]"
                  onClick={() => onFigure("[]")}
                >
                  {count(misfits)}
                </button>
              ) : (
                count(misfits)
              )}{" "}
              did not
            </>
          )}
          .
        </p>
      ) : (
        <p className="mb-1">
          <Gauge share={fit.sure / fit.steps} />
          <span className="fw-semibold" data-testid="fit-share">
            {percent(fit.sure / fit.steps)}
          </span>{" "}
          of {count(fit.steps, "step")} are sure: no row tells a move, so each was worked out from
          the views, and the others could as well have come about in another way.
        </p>
      )}
      {app.map !== null && (
        <ForRole least="work">
          <Mends app={app} misfits={misfits} />
        </ForRole>
      )}
    </section>
  );
}

/** A small level: how full it is, is the share. */
function Gauge({ share }: { share: number }) {
  return (
    <svg width="64" height="10" className="me-2" role="img" aria-label={percent(share)}>
      <rect width="64" height="10" fill="var(--moss-wash)" />
      <rect width={64 * share} height="10" fill="var(--moss)" />
      {share < 1 && <rect x={64 * share} width={64 * (1 - share)} height="10" fill="var(--rust)" />}
    </svg>
  );
}

interface Tried {
  words: string;
  /** The version of the map before, to which undoing goes back. */
  before: number;
}

function Mends({ app, misfits }: { app: AppSummary; misfits: number }) {
  const mends = useMends(app.key, misfits > 0);
  const take = useTakeMend(app.key);
  const back = useTakeVersion(app.key);
  const [tried, setTried] = useState<Tried | null>(null);
  const busy = take.isPending || back.isPending;
  const problem = take.error ?? back.error;
  const tryOut = (mend: Mend) => {
    const before = app.map;
    if (before !== null) {
      take.mutate(mend, { onSuccess: () => setTried({ words: mendWords(mend), before }) });
    }
  };
  return (
    <>
      {tried && (
        <p className="mb-1" data-testid="tried">
          Tried: <em>{tried.words}</em>. It holds everywhere now.{" "}
          <Button
            size="sm"
            className="py-0"
            variant="outline-secondary"
            disabled={busy}
            onClick={() => back.mutate(tried.before, { onSuccess: () => setTried(null) })}
          >
            Undo
          </Button>
        </p>
      )}
      {misfits > 0 && mends.isPending && <p className="soft mb-1">Trying what would mend it…</p>}
      {misfits > 0 && mends.data?.length === 0 && (
        <p className="soft mb-1">
          No single setting, tab, link or name in the map would mend most of it.
        </p>
      )}
      {misfits > 0 && mends.data && mends.data.length > 0 && (
        <PlainTable className="mb-1" testid="mends">
          <tbody>
            {mends.data.map((mend) => (
              <tr key={`${mend.kind} ${mend.subject} ${mend.value}`}>
                <td className="n fw-semibold text-nowrap">
                  {mend.mended === 1 ? "All" : percent(mend.mended)}
                </td>
                <td>
                  of these would land as predicted if <em>{mendWords(mend)}</em>
                </td>
                <td className="text-end">
                  <Button
                    size="sm"
                    className="py-0"
                    variant="outline-primary"
                    disabled={busy}
                    data-mend={`${mend.kind} ${mend.subject} ${mend.value}`}
                    onClick={() => tryOut(mend)}
                  >
                    Try it
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      )}
      {problem && <Trouble problem={problem} />}
    </>
  );
}

export function poorSentence(fit: Fit): string {
  return `Only ${shareOf(fit.landed, fit.told)} of the moves landed where the map's rules lead: what it says of backs and depths is partly wrong.`;
}
