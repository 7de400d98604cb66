import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, dataOf, type Mapping, type MappingPreview, type Schemas } from "../../api/client";
import { MiniProfile } from "../../charts/MiniProfile";
import { count } from "../../format";
import { FigureButton } from "../../shell/FigureButton";
import { JourneyWords } from "../../shell/JourneyList";
import { Loading, Trouble } from "../../shell/states";

type Counts = NonNullable<MappingPreview["counts"]>;
type Figure = "users" | "sessions" | "steps" | "tried" | "signed_in" | "set_aside";
type Opened = Schemas["OpenedCount"];

interface Props {
  job: number;
  mapping: Mapping;
  counts: Counts | null;
  busy: boolean;
}

/** What the file comes to, read so: a wrong choice shows here at once, and each count opens. */
export function MappingComes({ job, mapping, counts, busy }: Props) {
  const [figure, setFigure] = useState<Figure | null>(null);
  if (!counts) {
    return null;
  }
  const of = counts.whole ? "all rows" : `its first ${count(counts.rows)} rows`;
  const lost = counts.rows - counts.usable;
  const button = (own: Figure, words: ReactNode) => (
    <FigureButton
      figure={own}
      chosen={figure}
      onChoose={() => setFigure(own === figure ? null : own)}
    >
      {words}
    </FigureButton>
  );
  return (
    <>
      <p className={`comes mb-1 ${busy ? "soft" : ""}`} data-testid="comes" aria-live="polite">
        <span className="soft">Of {of} come</span> {button("users", count(counts.users, "user"))}{" "}
        <span className="soft">·</span> {button("sessions", count(counts.sessions, "session"))}{" "}
        <span className="soft">·</span>{" "}
        <span className={counts.steps ? "" : "mark-word"}>
          {button("steps", count(counts.steps, "step"))}
        </span>{" "}
        <span className="soft">·</span>{" "}
        {counts.outcomes_told ? (
          <>
            {button("tried", count(counts.tried))} {counts.tried === 1 ? "session" : "sessions"}{" "}
            tried to sign in, {button("signed_in", count(counts.signed_in))} got in
          </>
        ) : (
          <span className="mark-word">who got in, it does not tell</span>
        )}
        {lost > 0 && (
          <span className="mark-word">
            {" · "}
            {button("set_aside", `${count(lost, "row")} set aside`)}
          </span>
        )}
      </p>
      {figure && <OpenedCount job={job} mapping={mapping} figure={figure} />}
    </>
  );
}

const MOST = 50;
const ASKED: Record<Figure, string> = {
  users: "users, each by the first session",
  sessions: "sessions",
  steps: "sessions, those with most steps first",
  tried: "sessions in which someone tried",
  signed_in: "sessions in which someone got in",
  set_aside: "rows set aside",
};

function OpenedCount({ job, mapping, figure }: { job: number; mapping: Mapping; figure: Figure }) {
  const found = useQuery({
    queryKey: ["mapping", job, mapping, figure],
    queryFn: () =>
      dataOf(
        api.POST("/api/jobs/{job_id}/mapping/opened", {
          params: { path: { job_id: job }, query: { figure, limit: MOST } },
          body: mapping,
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (found.isPending) {
    return <Loading what="Reading" />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const { total, journeys, rows } = found.data;
  return (
    <div className="opened-count mb-2" data-testid="opened-count">
      <div className="small-text soft">
        {count(total)} {ASKED[figure]}
        {total > MOST && `; the first ${MOST}`}
      </div>
      {journeys.map((journey) => (
        <Journey key={journey.key} journey={journey} />
      ))}
      {rows.map((row) => (
        <div key={row.line} className="small-text clip">
          <span className="fw-semibold">line {count(row.line)}</span>{" "}
          <span className="mark-word">{row.reason}</span> <code>{row.text}</code>
        </div>
      ))}
    </div>
  );
}

function Journey({ journey }: { journey: Opened["journeys"][number] }) {
  return (
    <div className="opened-journey">
      <JourneyWords journey={journey} />
      <MiniProfile depths={journey.depths} grounds={journey.grounds} width={112} height={30} />
    </div>
  );
}
