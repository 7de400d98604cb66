import type { AppSummary, SignIn } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { FunnelTrack } from "../../charts/FunnelTrack";
import { count, duration, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useFigure } from "../../scope/useFigure";
import { Evidence } from "../../shell/Evidence";
import { FigureButton } from "../../shell/FigureButton";
import { GroupChoice, useGroups } from "../../shell/GroupChoice";
import { type GroupColumn, GroupTable } from "../../shell/GroupTable";
import { Picture } from "../../shell/Picture";
import { Empty, Loading, Trouble } from "../../shell/states";
import { Gates } from "./Gates";
import { LOSS_WORDS, STAGE_WORDS } from "./words";

export function SignInView({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address] = useAddress();
  const [figure, choose] = useFigure();
  const groups = useGroups();
  const answer = useMeasure(app.key, "sign-in", scope, { groups });
  const opened = address.get("figure");
  if (answer.isPending) {
    return <Loading />;
  }
  if (answer.isError) {
    return <Trouble problem={answer.error} />;
  }
  const found = answer.data.whole;
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then this page shows how many met sign-in, tried, and got in.
      </Empty>
    );
  }
  if (!found.has_screen && !found.told) {
    return (
      <Empty title="No screen is known to be a sign-in screen.">
        Give at least one screen the role <code>sign_in</code> in the app map, and bring the map in
        under Logs. The {count(found.all, "journey")} in scope can be walked meanwhile.
      </Empty>
    );
  }
  const met = found.stages[0]?.count ?? 0;
  return (
    <>
      <div className="view-body">
        <h1>{sentence(found)}</h1>
        <p className="soft small-text mb-3">
          {found.restored > 0 && (
            <>
              <FigureButton figure="restored" chosen={figure} onChoose={choose}>
                {count(found.restored)}
              </FigureButton>{" "}
              further {unitWord(found, found.restored)} were signed in from the start and are not
              counted here.
            </>
          )}
          {found.small && met > 0 && " Fewer than 30: too few for the shares to tell much."}
        </p>
        {met > 0 && !found.told && <Gates app={app} />}
        {met > 0 && found.told && (
          <>
            <Picture
              name={`${app.key}-sign-in`}
              title="From meeting sign-in to getting in"
              rows={() => tableOf(found)}
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
            <StageTable found={found} figure={figure} onChoose={choose} />
            <GroupChoice
              app={app.key}
              groups={groups}
              values={answer.data.groups.map((group) => group.value)}
            />
            <GroupTable
              measured={answer.data}
              groups={groups}
              columns={COLUMNS}
              small={(figures) => figures.small}
            />
            <Gates app={app} />
          </>
        )}
      </div>
      {opened && (
        <Evidence app={app.key} measure={address.get("of") ?? "sign-in"} figure={opened} />
      )}
    </>
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

function tableOf(found: SignIn): (string | number | null)[][] {
  return [
    ["stage", found.unit, "share of those that met it", "median ms to it"],
    ...found.stages.map((stage) => [
      STAGE_WORDS[stage.figure] ?? stage.figure,
      stage.count,
      stage.of_first.of ? stage.of_first.count / stage.of_first.of : null,
      stage.time_to?.median ?? null,
    ]),
  ];
}

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

interface TableProps {
  found: SignIn;
  figure: string | null;
  onChoose: (figure: string) => void;
}

function StageTable({ found, figure, onChoose }: TableProps) {
  return (
    <table className="table table-sm plain mt-3">
      <thead>
        <tr>
          <th>stage</th>
          <th className="n">{found.unit}</th>
          <th className="n">of those that met it</th>
          <th>95 %</th>
          <th className="n">of the stage before</th>
          <th className="n">middle time to it</th>
          <th className="n">half within</th>
        </tr>
      </thead>
      <tbody>
        {found.stages.map((stage, i) => (
          <tr key={stage.figure}>
            <td>{STAGE_WORDS[stage.figure]}</td>
            <td className="n">
              <FigureButton figure={stage.figure} chosen={figure} onChoose={onChoose}>
                {count(stage.count)}
              </FigureButton>
            </td>
            <td className="n">{i > 0 && percent(stage.of_first.count / stage.of_first.of)}</td>
            <td className="soft">
              {i > 0 && `${percent(stage.of_first.low)} – ${percent(stage.of_first.high)}`}
            </td>
            <td className="n">
              {i > 0 &&
                stage.of_previous.of > 0 &&
                percent(stage.of_previous.count / stage.of_previous.of)}
            </td>
            <td className="n">{stage.time_to && duration(stage.time_to.median)}</td>
            <td className="n soft">
              {stage.time_to &&
                `${duration(stage.time_to.first)} – ${duration(stage.time_to.third)}`}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
