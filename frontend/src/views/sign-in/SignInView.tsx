import type { AppSummary, SignIn } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { FunnelTrack } from "../../charts/FunnelTrack";
import { count, duration, percent } from "../../format";
import { useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { type Column, half, interval, middle, opens, share } from "../../shell/columns";
import { OpenFigure } from "../../shell/FigureButton";
import { useGroups } from "../../shell/GroupChoice";
import type { GroupColumn } from "../../shell/GroupTable";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { Empty } from "../../shell/states";
import { Gates } from "./Gates";
import { LOSS_WORDS, STAGE_WORDS } from "./words";

export function SignInView({ app }: { app: AppSummary }) {
  const [figure, choose] = useFigure();
  const answer = useMeasure(app.key, "sign-in", useScope(), { groups: useGroups() });
  return (
    <MeasureView
      app={app}
      measure="sign-in"
      answer={answer}
      purpose="this page shows how many met sign-in, tried, and got in"
      sentence={sentence}
      empty={(found) =>
        !found.has_screen &&
        !found.told && (
          <Empty title="No screen is known to be a sign-in screen.">
            Give at least one screen the role <code>sign_in</code> in the app map, and bring the map
            in under Logs. The {count(found.all, "journey")} in scope can be walked meanwhile.
          </Empty>
        )
      }
      columns={(whole) => (whole.told && whole.stages[0]?.count ? COLUMNS : [])}
      small={(found) => found.small}
    >
      {(found) => {
        const met = found.stages[0]?.count ?? 0;
        return (
          <>
            <p className="soft small-text mb-3">
              {found.restored > 0 && (
                <>
                  <OpenFigure figure="restored">{count(found.restored)}</OpenFigure> further{" "}
                  {unitWord(found, found.restored)} were signed in from the start and are not
                  counted here.
                </>
              )}
              {found.small && met > 0 && " Fewer than 30: too few for the shares to tell much."}
            </p>
            {met > 0 && found.told && (
              <Picture
                name={`${app.key}-sign-in`}
                title="From meeting sign-in to getting in"
                table={{
                  columns: stageColumns(found.unit),
                  rows: found.stages,
                  id: (stage) => stage.figure,
                  testid: "stages",
                }}
                below
              >
                <FunnelTrack
                  stages={found.stages.map((stage) => ({
                    ...stage,
                    word: STAGE_WORDS[stage.figure] ?? stage.figure,
                    losses: found.losses
                      .filter((loss) => loss.stage === stage.figure)
                      .map((loss) => ({ ...loss, words: LOSS_WORDS[loss.way] ?? loss.way })),
                  }))}
                  chosen={figure}
                  onChoose={choose}
                />
              </Picture>
            )}
            {met > 0 && <Gates app={app} />}
          </>
        );
      }}
    </MeasureView>
  );
}

const COLUMNS: GroupColumn<SignIn>[] = Object.entries(STAGE_WORDS).map(([figure, title], i) => {
  const own = (found: SignIn) => found.stages.find((stage) => stage.figure === figure);
  return {
    title,
    count: (found) => own(found)?.count,
    figure: () => figure,
    ...(i > 0 && {
      share: (found: SignIn) => own(found)?.of_first,
      path: `stages/${figure}/of_first`,
      time: (found: SignIn) => own(found)?.time_to?.median,
    }),
  };
});

type Stage = SignIn["stages"][number];

/** What has no meaning of the first stage. */
const later = <Own,>(stage: Stage, own: Own) => (stage.figure === "met" ? null : own);

const stageColumns = (unit: string): Column<Stage>[] => [
  { title: "stage", value: (stage) => STAGE_WORDS[stage.figure] },
  opens(unit, (stage) => ({ figure: stage.figure, n: stage.count })),
  share("of those that met it", (stage) => later(stage, stage.of_first)),
  interval((stage) => later(stage, stage.of_first)),
  share("of the stage before", (stage) => later(stage, stage.of_previous)),
  middle("middle time to it", (stage) => stage.time_to),
  ...half<Stage>("half within", (stage) => stage.time_to),
];

function unitWord(found: SignIn, n: number): string {
  const one = found.unit === "users" ? "user" : "session";
  return n === 1 ? one : `${one}s`;
}

function sentence(found: SignIn): string {
  const [met, tried, into] = found.stages;
  if (!met?.count) {
    return `None of ${count(found.all)} ${unitWord(found, found.all)} met sign-in.`;
  }
  if (!tried || !into) {
    return `${count(met.count)} ${unitWord(found, met.count)} met sign-in. Who got in, the log does not tell: no row says how a sign-in came out.`;
  }
  const biggest = [...found.losses].sort((a, b) => b.share.count - a.share.count)[0];
  const middle = into.time_to
    ? ` From the first try to getting in, the middle time is ${duration(into.time_to.median)}.`
    : "";
  const lost = biggest
    ? ` Most of the others ${LOSS_WORDS[biggest.way]} ${
        biggest.stage === "met" ? "before a try" : "after a try"
      }.`
    : "";
  const share = percent(into.count / met.count);
  return `Of ${count(met.count)} ${unitWord(found, met.count)} that met sign-in, ${share} got in.${lost}${middle}`;
}
