import { Link } from "react-router";
import type { AppSummary, Count, PatternFigures } from "../../api/client";
import { useMeasure, usePatternReading } from "../../api/queries";
import { PatternSteps } from "../../charts/PatternSteps";
import { count, duration, percent } from "../../format";
import { scopeSearch, useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { type Column, opens, times } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
import { useGroups } from "../../shell/GroupChoice";
import { Kept } from "../../shell/Kept";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { Empty, Loading } from "../../shell/states";
import { Editor } from "./Editor";
import { READY } from "./ready";

/** Journeys with steps that fit a pattern: how far others get, and what comes next. */
export function PatternsView({ app }: { app: AppSummary }) {
  const [address, change] = useAddress();
  const pattern = address.get("pattern") ?? "";
  const reading = usePatternReading(app.key, pattern);
  const write = (text: string) => change({ pattern: text.trim() || null, figure: null });
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then this page finds journeys by what happens in them, in order.
      </Empty>
    );
  }
  if (reading.isPending || reading.isPlaceholderData) {
    return <Loading />;
  }
  const editor = <Editor key={pattern} app={app.key} pattern={pattern} onWrite={write} />;
  const kept = (
    <Kept
      app={app.key}
      kind="pattern"
      open={pattern ? { pattern } : null}
      onChoose={(document: { pattern: string }) => write(document.pattern)}
    >
      <Link
        to={{
          pathname: "/funnels",
          search: scopeSearch(address, {
            funnel: JSON.stringify({ stages: [{ any: [{ pattern }] }] }),
          }),
        }}
      >
        make it a stage of a funnel
      </Link>
      <button type="button" className="figure-button" onClick={() => write("")}>
        a new one
      </button>
    </Kept>
  );
  // What cannot be asked is not: the editor says why.
  return pattern && !reading.data?.fault ? (
    <Asked app={app} pattern={pattern} lead={[editor, kept]} />
  ) : (
    <div className="view-body">
      <h1>What do you look for in journeys?</h1>
      {editor}
      {kept}
      <p className="soft mt-3 mb-1">Or begin with one of these, and change it:</p>
      <ul className="list-unstyled" data-testid="ready">
        {Object.entries(READY).map(([said, text]) => (
          <li key={said} className="mb-1">
            <button type="button" className="figure-button" onClick={() => write(text)}>
              {said}
            </button>{" "}
            <code className="soft small-text">{text}</code>
          </li>
        ))}
      </ul>
    </div>
  );
}

interface AskedProps {
  app: AppSummary;
  pattern: string;
  lead: React.ReactNode[];
}

function Asked({ app, pattern, lead }: AskedProps) {
  const answer = useMeasure(app.key, "patterns", useScope(), {
    params: { pattern },
    groups: useGroups(),
  });
  return (
    <MeasureView
      app={app}
      measure="patterns"
      answer={answer}
      sentence={sentence}
      purpose="this page finds journeys by what happens in them"
      counted="matches"
      columns={() => [
        {
          title: "with a match",
          share: (found) => found.met,
          path: "met",
          figure: (found) => found.matches.figure,
        },
        { title: "middle time", time: (found) => found.took?.median },
      ]}
      lead={lead}
    >
      {(found) => <Found app={app.key} found={found} />}
    </MeasureView>
  );
}

function sentence(found: PatternFigures): string {
  const { met, matches, took } = found;
  if (!met.count) {
    return `None of ${count(met.of)} in scope has such steps.`;
  }
  const often = matches.times > matches.journeys ? `, ${count(matches.times)} times` : "";
  const long = took && took.third > 0 ? `; half of them take ${duration(took.median)} or less` : "";
  return `${count(met.count)} of ${count(met.of)} have it (${percent(met.count / met.of)})${often}${long}.`;
}

type Condition = PatternFigures["conditions"][number];
type Next = PatternFigures["next"][number];

function Found({ app, found }: { app: string; found: PatternFigures }) {
  const [figure, choose] = useFigure();
  const { unit } = useScope();
  const counted = (own: Count) => (unit === "users" ? own.users : own.journeys);
  const opened = (own: Count) => ({ figure: own.figure, n: counted(own) });
  const conditions: Column<Condition>[] = [
    { title: "condition", value: (one) => one.words, width: "34rem" },
    opens("came so far", (one) => opened(one.reached)),
    opens("and no further", (one) => opened(one.broke_off)),
  ];
  const next: Column<Next>[] = [
    {
      title: "right after it",
      value: (one) => one.screen || "the journey ended",
      width: "12rem",
    },
    times("times", (one) => one.count),
    { ...opens("journeys", (one) => ({ figure: one.count.figure, n: one.count.journeys })) },
  ];
  return (
    <>
      <Picture
        name={`${app}-pattern`}
        title="How far they get"
        table={{
          columns: conditions,
          rows: found.conditions,
          id: (one) => String(one.start),
          testid: "conditions",
        }}
      >
        <PatternSteps found={found} counted={counted} chosen={figure} onChoose={choose} />
      </Picture>
      {found.let_go > 0 && (
        <p className="soft small-text">
          {count(found.let_go, "journey")} had more than 32 values open at once; those begun first
          were let go, so a match of them may be missing.
        </p>
      )}
      {found.next.length > 0 && (
        <section className="mt-2">
          <DataTable
            name={`${app}-next`}
            title="What came right after"
            columns={next}
            rows={found.next}
            id={(one) => one.count.figure}
            testid="next"
            first={12}
          />
          {found.next_left_out > 0 && (
            <p className="soft small-text">
              {count(found.next_left_out, "screen")} more, each more rarely.
            </p>
          )}
        </section>
      )}
    </>
  );
}
