import type { ReactNode } from "react";
import type { AppSummary, FunnelFigures } from "../../api/client";
import { type FiguresOf, useMeasure } from "../../api/queries";
import { FunnelTrack, type TrackTools } from "../../charts/FunnelTrack";
import { count, duration, percent, short } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { Evidence } from "../../shell/Evidence";
import { useGroups } from "../../shell/GroupChoice";
import { type GroupColumn, GroupTable } from "../../shell/GroupTable";
import { Picture } from "../../shell/Picture";
import { Loading, Trouble } from "../../shell/states";
import { LikeNames } from "./LikeNames";
import { type Stage, stageColumns } from "./StageTable";
import { plainSpec, stageWords, type Written } from "./spec";
import { type FunnelFigure, lossWords } from "./words";

interface Props {
  app: AppSummary;
  spec: Written;
  /** What those did who reached the last stage, as in “finish onboarding”. */
  finish: string;
  /** Above the figures: how the funnel is built. */
  children?: ReactNode;
  /** What changes it, on the track. */
  tools?: TrackTools;
  after?: ReactNode;
}

/** The figures of a funnel: its sentence, the track, its groups, and the table. */
export function FunnelPage({ app, spec, finish, children, tools, after }: Props) {
  const scope = useScope();
  const [address, change] = useAddress();
  const [figure, choose] = useFigure();
  const groups = useGroups();
  const plain = plainSpec(spec);
  const answer = useMeasure(app.key, "funnel", scope, {
    params: { spec: JSON.stringify(plain) },
    groups,
  });
  const asked = address.get("told") ?? "";
  const told: Told = asked in TOLD ? (asked as Told) : "of_first";
  const opened = address.get("figure");
  const figureOf = (cell: string) => JSON.stringify({ funnel: plain, cell } satisfies FunnelFigure);
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
  const found = answer.data.whole;
  const stages = found.stages.map((stage, i) => {
    const own = spec.stages[i];
    return { ...stage, word: own && spec.order !== "any" ? stageWords(own) : stage.name };
  });
  const none = !stages[0]?.count;
  return (
    <>
      <div className="view-body">
        <h1>{sentence(found, stages, finish)}</h1>
        {children}
        {said(spec, found.counted) && (
          <p className="soft small-text">{said(spec, found.counted)}</p>
        )}
        <LikeNames app={app.key} stages={found.stages} />
        <GroupTable
          app={app.key}
          measured={answer.data}
          groups={groups}
          columns={none ? [] : stages.map((stage, i) => stageColumn(told, stage, i, figureOf))}
          small={(figures) => figures.small}
          choices={
            !none && (
              <Choice
                label="What is told of each group"
                choices={TOLD}
                chosen={told}
                onChoose={(chosen) => change({ told: chosen === "of_first" ? null : chosen })}
              />
            )
          }
        />
        {(!none || tools) && (
          <Picture
            name={`${app.key}-funnel`}
            title="From stage to stage"
            table={{
              columns: stageColumns(found.counted, figureOf),
              rows: stages,
              id: (stage) => stage.cell,
              testid: "stages",
            }}
            below
          >
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
              tools={tools}
              chosen={figure}
              onChoose={choose}
            />
          </Picture>
        )}
        {after}
      </div>
      {opened && (
        <Evidence
          app={app.key}
          measure={address.get("of") ?? "funnel"}
          figure={opened}
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

const TOLD = {
  of_first: "shares of the first stage",
  of_previous: "of the stage before",
  time_to: "middle time to it",
};
type Told = keyof typeof TOLD;

/** Of each group, how many got to a stage, and their share, or the time that it took. */
function stageColumn(
  told: Told,
  stage: Stage,
  i: number,
  figureOf: (cell: string) => string,
): GroupColumn<FiguresOf<"funnel">> {
  const own = (found: FiguresOf<"funnel">) => found.stages[i];
  const share = i > 0 && told !== "time_to" ? told : null;
  return {
    title: short(stage.word, 18),
    count: (found) => own(found)?.count,
    figure: () => figureOf(stage.cell),
    ...(share && { share: (found) => own(found)?.[share], path: `stages/${stage.cell}/${share}` }),
    ...(told === "time_to" && { time: (found) => own(found)?.time_to?.median }),
  };
}

function sentence(found: FunnelFigures, stages: Stage[], finish: string): string {
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
  const time = found.whole_time ? `, half of them within ${duration(found.whole_time.median)}` : "";
  const where = lost?.n ? ` Most are lost after ${lost.word}: ${count(lost.n)}.` : "";
  return `${percent(last.count / first.count)} of ${count(first.count, one)} ${finish}${time}.${where}`;
}
