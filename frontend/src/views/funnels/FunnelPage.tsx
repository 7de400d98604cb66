import { type ReactNode, useRef } from "react";
import type { AppSummary, FunnelFigures } from "../../api/client";
import { useFunnel } from "../../api/queries";
import { FunnelTrack } from "../../charts/FunnelTrack";
import { count, duration, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { Evidence } from "../../shell/Evidence";
import { GroupChoice, useGroups } from "../../shell/GroupChoice";
import { Loading, Trouble } from "../../shell/states";
import { TakeAway } from "../../shell/TakeAway";
import { Multiples } from "./Multiples";
import { StageTable } from "./StageTable";
import { plainSpec, stageWords, type Written } from "./spec";
import { type FunnelFigure, lossWords } from "./words";

interface Props {
  app: AppSummary;
  spec: Written;
  /** What those did who reached the last stage, as in “finish onboarding”. */
  finish: string;
  /** Above the figures: how the funnel is built. */
  children?: ReactNode;
  after?: ReactNode;
}

/** The figures of a funnel: its sentence, the track, its groups, and the table. */
export function FunnelPage({ app, spec, finish, children, after }: Props) {
  const scope = useScope();
  const [address, change] = useAddress();
  const groups = useGroups();
  const plain = plainSpec(spec);
  const answer = useFunnel(app.key, scope, JSON.stringify(plain), groups);
  const chart = useRef<HTMLDivElement>(null);
  const figure = address.get("figure");
  const choose = (chosen: string) =>
    change({ figure: chosen === figure ? null : chosen, of: null });
  const figureOf = (cell: string, by?: string, value?: string) =>
    JSON.stringify({
      funnel: plain,
      cell,
      ...(by && { by, value: value ?? "" }),
    } satisfies FunnelFigure);
  if (answer.isPending) {
    return <Loading />;
  }
  if (answer.isError) {
    return (
      <div className="view-body">
        {children}
        <Trouble problem={answer.error} />
      </div>
    );
  }
  const found = answer.data;
  const stages = found.whole.stages.map((stage, i) => {
    const own = spec.stages[i];
    return { ...stage, word: own && spec.order !== "any" ? stageWords(own) : stage.name };
  });
  const rows = () => [
    ["group", "stage", found.counted, "share of first", "share of stage before", "median ms to it"],
    ...[found.whole, ...found.groups].flatMap((group) =>
      group.stages.map((stage, i) => [
        group.value ?? "all",
        stages[i]?.word ?? "",
        stage.count,
        stage.of_first.of ? stage.of_first.count / stage.of_first.of : null,
        stage.of_previous.of ? stage.of_previous.count / stage.of_previous.of : null,
        stage.time_to?.median ?? null,
      ]),
    ),
  ];
  const none = !stages[0]?.count;
  return (
    <>
      <div className="view-body">
        <h1>{sentence(found, stages, finish)}</h1>
        {children}
        {said(spec, found.counted) && (
          <p className="soft small-text">{said(spec, found.counted)}</p>
        )}
        <div className="d-flex flex-wrap justify-content-between align-items-baseline gap-3 mb-2">
          <GroupChoice
            app={app.key}
            groups={groups}
            values={found.groups.map((group) => group.value ?? "")}
          />
          <TakeAway name={`${app.key}-funnel`} chart={chart} rows={rows} />
        </div>
        {!none && (
          <div ref={chart}>
            <FunnelTrack
              stages={stages.map((stage) => ({
                ...stage,
                figure: figureOf(stage.cell),
                losses: stage.losses.map((loss) => ({
                  figure: figureOf(loss.cell),
                  way: loss.way,
                  words: lossWords(loss.way, loss.screen),
                  share: loss.share,
                })),
              }))}
              chosen={figure}
              onChoose={choose}
            />
          </div>
        )}
        {groups.by && !none && (
          <Multiples
            found={found}
            words={stages.map((stage) => stage.word)}
            by={groups.by}
            two={groups.one !== undefined ? [groups.one, groups.other ?? ""] : null}
            figure={figure}
            figureOf={figureOf}
            onChoose={choose}
          />
        )}
        {!none && (
          <StageTable
            found={found}
            words={stages.map((stage) => stage.word)}
            figure={figure}
            figureOf={figureOf}
            onChoose={choose}
          />
        )}
        {after}
      </div>
      {figure && (
        <Evidence
          app={app.key}
          scope={scope}
          measure={address.get("of") ?? "funnel"}
          figure={figure}
          counted={found.counted === "attempts" ? "attempts" : undefined}
        />
      )}
    </>
  );
}

/** What a match that runs across sessions counts for. */
function said(spec: Written, counted: string): string {
  if (spec.first_ever) {
    return "Each user counts once: from the first time in scope that they came to the first stage, on through all later sessions.";
  }
  if (spec.window && counted === "sessions") {
    return "A match may run on into later sessions of the user. It counts for the session in which it began; one that only ends it does not count by itself.";
  }
  return spec.order === "any" && counted === "attempts"
    ? "A stage that an attempt has already begins another."
    : "";
}

type Stages = (FunnelFigures["whole"]["stages"][number] & { word: string })[];

function sentence(found: FunnelFigures, stages: Stages, finish: string): string {
  const [first, last] = [stages[0], stages.at(-1)];
  const one = found.counted.replace(/s$/, "");
  if (!first?.count || !last) {
    const name = first?.word ?? "the first stage";
    return `None of ${count(found.in_scope, "journey")} in scope comes to ${name}.`;
  }
  if (stages.length === 1) {
    return `${count(first.count, one)} come to ${first.word}.`;
  }
  const lost = stages
    .slice(0, -1)
    .map((stage, i) => ({ word: stage.word, n: stage.count - (stages[i + 1]?.count ?? 0) }))
    .sort((a, b) => b.n - a.n)[0];
  const time = found.whole.whole_time
    ? `, half of them within ${duration(found.whole.whole_time.median)}`
    : "";
  const where = lost?.n ? ` Most are lost after ${lost.word}: ${count(lost.n)}.` : "";
  return `${percent(last.count / first.count)} of ${count(first.count, one)} ${finish}${time}.${where}`;
}
