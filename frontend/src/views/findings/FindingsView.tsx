import { ProgressBar } from "react-bootstrap";
import type { AppSummary, Schemas } from "../../api/client";
import { useFindings, useKeepFinding, useKeptFindings } from "../../api/queries";
import { TwoBars } from "../../charts/TwoBars";
import { count } from "../../format";
import { type Scope, useAddress, useScope } from "../../scope/scope";
import { partsOf, type Segment, written } from "../../scope/segment";
import { Choice } from "../../shell/Choice";
import { Evidence } from "../../shell/Evidence";
import { Empty, Loading, Trouble } from "../../shell/states";
import { BESIDE, Finding } from "./Finding";
import { KeptList } from "./KeptList";
import { LogLine } from "./LogLine";

type Found = Schemas["Finding"];
type List = "found" | "kept" | "dismissed";

/** What stands out in the log, and what was kept of it for the report. */
export function FindingsView({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address, change] = useAddress();
  const answer = useFindings(app.key, scope);
  const kept = useKeptFindings(app.key).data ?? [];
  const keep = useKeepFinding(app.key);
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then this page tells what stands out in it.
      </Empty>
    );
  }
  if (answer.isPending) {
    return <Loading what="Asking every measure" />;
  }
  if (answer.isError) {
    return <Trouble problem={answer.error} />;
  }
  const { found, looked_at, asked, to_ask } = answer.data;
  const asking = asked < to_ask;
  const known = new Map(kept.map((one) => [one.key, one]));
  const open = found.filter((one) => !known.get(one.key)?.dismissed);
  const list = (address.get("list") ?? "found") as List;
  const lists: Record<List, string> = {
    found: `stands out ${count(open.length)}`,
    kept: `kept ${count(kept.filter((one) => !one.dismissed).length)}`,
    dismissed: `dismissed ${count(kept.filter((one) => one.dismissed).length)}`,
  };
  const figure = address.get("figure");
  const group = address.get("group") ?? "";
  const choose = (one: { figure: string; measure: string }, segment: string) =>
    change(
      figure === one.figure && group === segment
        ? { figure: null, of: null, group: null }
        : { figure: one.figure, of: one.measure, group: segment || null },
    );
  const save = (one: Found, dismissed: boolean, note = "") =>
    keep.mutate({
      key: one.key,
      kind: one.kind,
      sentence: one.sentence,
      measure: one.measure,
      figure: one.figure,
      timed: one.timed,
      where: one.where,
      beside: one.beside,
      also: one.also,
      scope: { segment: "", odd_clocks: false, ...withGroup(scope, one.segment) },
      dismissed,
      note,
    });
  return (
    <>
      <div className="view-body">
        <h1>{sentence(open, looked_at, asking)}</h1>
        <LogLine app={app} />
        <div className="d-flex flex-wrap gap-3 align-items-baseline mb-2">
          <Choice
            label="Which findings"
            choices={lists}
            chosen={list}
            onChoose={(next) => change({ list: next === "found" ? null : next, figure: null })}
          />
          {asking && <Asking asked={asked} of={to_ask} />}
          <Reports app={app.key} scope={scope} some={kept.some((one) => !one.dismissed)} />
        </div>
        {keep.isError && <Trouble problem={keep.error} />}
        {list === "found" ? (
          <ol className="findings" data-testid="findings">
            {open.map((one) => (
              <Finding
                key={one.key}
                sentence={one.sentence}
                measure={one.measure}
                touched={one.touched}
                also={one.also}
                scope={withGroup(scope, one.segment)}
                figure={one.figure}
                chosen={figure === one.figure && group === one.segment}
                kept={known.has(one.key)}
                picture={
                  <TwoBars
                    own={one.own}
                    beside={one.beside}
                    names={[one.where || "here", BESIDE[one.kind]]}
                    timed={one.timed}
                  />
                }
                onOpen={() => choose(one, one.segment)}
                onKeep={() => save(one, false)}
                onDismiss={(reason) => save(one, true, reason)}
              />
            ))}
          </ol>
        ) : (
          <KeptList
            app={app.key}
            rows={kept.filter((one) => one.dismissed === (list === "dismissed"))}
            chosen={figure}
            onOpen={(one) => choose(one, one.scope.segment ?? "")}
          />
        )}
        {list === "found" && (
          <p className="soft small-text">
            {count(looked_at, "comparison")} looked at; of what stands out, at most 5 in 100 are to
            be chance. Ranked by users touched and how far beyond chance.
          </p>
        )}
      </div>
      {figure && (
        <Evidence
          app={app.key}
          scope={list === "found" ? withGroup(scope, group) : { ...scope, segment: group }}
          measure={address.get("of") ?? ""}
          figure={figure}
        />
      )}
    </>
  );
}

function sentence(found: Found[], lookedAt: number, asking: boolean): string {
  const [first] = found;
  if (!first && asking) {
    return "Asking every measure what stands out.";
  }
  if (!first) {
    return lookedAt
      ? "Nothing stands out beyond chance in this scope."
      : "There are too few users in this scope to tell what stands out.";
  }
  const users = count(Math.max(Math.round(first.touched), 1), "user");
  const which = found.length > 1 ? "the first of them touches" : "it touches";
  return `${count(found.length, "thing stands", "things stand")} out in ${count(lookedAt, "comparison")}; ${which} ${users}.`;
}

/** The scope of a finding: that of the page, and in it a group. */
export function withGroup(scope: Scope, segment: string): Scope {
  if (!segment) {
    return scope;
  }
  const own = JSON.parse(segment) as Segment;
  return { ...scope, segment: written([...partsOf(scope.segment), own]) };
}

/** How far the asking is; until it is through, what is listed may change. */
function Asking({ asked, of }: { asked: number; of: number }) {
  return (
    <div className="d-flex align-items-center gap-2 small-text soft" role="status">
      <ProgressBar className="asking" now={asked} max={of} aria-label="Questions asked" />
      {asked} of {of} questions asked; what comes may still change the order.
    </div>
  );
}

function Reports({ app, scope, some }: { app: string; scope: Scope; some: boolean }) {
  if (!some) {
    return null;
  }
  const search = new URLSearchParams(
    Object.entries(scope).map(([key, value]) => [key, String(value)]),
  );
  const path = `/api/apps/${encodeURIComponent(app)}/report?${search}`;
  return (
    <span className="ms-auto d-inline-flex gap-3 small-text">
      <span className="soft">the report of what is kept:</span>
      <a href={`${path}&form=html`} download>
        HTML
      </a>
      <a href={`${path}&form=markdown`} download>
        Markdown
      </a>
    </span>
  );
}
