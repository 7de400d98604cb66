import type { AppSummary } from "../../api/client";
import { useFunnel } from "../../api/queries";
import { useAddress, useScope } from "../../scope/scope";
import { GroupChoice, useGroups } from "../../shell/GroupChoice";
import { Multiples } from "../funnels/Multiples";
import type { Written } from "../funnels/spec";
import type { FunnelFigure } from "../funnels/words";

/** Sign-in as a funnel, for the values of a property. */
const SIGN_IN: Written = {
  stages: [
    { name: "met sign-in", any: [{ roles: ["sign_in"] }] },
    { name: "tried", any: [{ event: "sign_in" }] },
    { name: "in", any: [{ event: "sign_in", outcome: "ok" }] },
  ],
};

export function ByGroup({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address, change] = useAddress();
  const groups = useGroups();
  const found = useFunnel(app.key, scope, groups.by ? JSON.stringify(SIGN_IN) : "", groups).data;
  const figure = address.get("of") === "funnel" ? address.get("figure") : null;
  return (
    <section className="mb-2">
      <GroupChoice
        app={app.key}
        groups={groups}
        values={found?.groups.map((group) => group.value ?? "") ?? []}
      />
      {groups.by && found && (
        <Multiples
          found={found}
          words={SIGN_IN.stages.map((stage) => stage.name ?? "")}
          by={groups.by}
          two={groups.one !== undefined ? [groups.one, groups.other ?? ""] : null}
          figure={figure}
          figureOf={(cell, by, value) =>
            JSON.stringify({
              funnel: SIGN_IN,
              cell,
              ...(by && { by, value: value ?? "" }),
            } satisfies FunnelFigure)
          }
          onChoose={(chosen) =>
            change(
              chosen === figure ? { figure: null, of: null } : { figure: chosen, of: "funnel" },
            )
          }
        />
      )}
    </section>
  );
}
