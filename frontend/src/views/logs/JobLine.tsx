import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Button, ProgressBar } from "react-bootstrap";
import { api, dataOf, type JobView } from "../../api/client";
import { readAllAnew, useChange } from "../../api/queries";
import { bytes, called, count, percent } from "../../format";
import { ForRole } from "../../shell/role";
import { MappingPanel } from "./MappingPanel";

const THROUGH = ["asking", "done", "failed", "cancelled", "interrupted"];

const WORDS: Record<JobView["state"], string> = {
  uploading: "uploading",
  waiting: "waiting for the import before it",
  reading: "reading",
  storing: "storing",
  replaying: "replaying",
  asking: "asks how it is to be read",
  done: "done",
  failed: "could not be brought in",
  cancelled: "stopped",
  interrupted: "interrupted",
};

/** One import: its progress while it runs, and what to do when it came to nothing. */
export function JobLine({ job: given }: { job: JobView }) {
  const job = useFollowed(given);
  const path = { params: { path: { job_id: job.id } } };
  const cancel = useChange(() => dataOf(api.POST("/api/jobs/{job_id}/cancel", path)));
  const retry = useChange(() => dataOf(api.POST("/api/jobs/{job_id}/retry", path)));
  const dismiss = useChange(() => dataOf(api.DELETE("/api/jobs/{job_id}", path)));
  const through = THROUGH.includes(job.state);
  return (
    <div className="py-2 border-bottom" data-testid="job" data-state={job.state}>
      <div className="d-flex gap-2 align-items-baseline">
        <span className="fw-semibold clip">{called(job.files)}</span>
        <span
          className={`flex-shrink-0 ${through && job.state !== "asking" ? "mark-word" : "soft"}`}
        >
          {WORDS[job.state]}
        </span>
        <span className="soft ms-auto flex-shrink-0">{progressWords(job)}</span>
        {!through && (
          <button type="button" className="quiet" onClick={() => cancel.mutate(undefined)}>
            stop
          </button>
        )}
        {job.can_retry && (
          <Button
            size="sm"
            variant="outline-primary"
            disabled={retry.isPending}
            onClick={() => retry.mutate(undefined)}
          >
            Try again
          </Button>
        )}
        {through && (
          <button
            type="button"
            className="quiet"
            aria-label="Take off the list"
            onClick={() => dismiss.mutate(undefined)}
          >
            <i className="bi bi-x-lg" />
          </button>
        )}
      </div>
      {!through && (
        <ProgressBar now={doneShare(job) * 100} aria-label={`Import of ${called(job.files)}`} />
      )}
      {job.message && (
        <div>
          {job.message} <span className="soft">{job.mend}</span>
        </div>
      )}
      {job.state === "asking" && (
        <ForRole least="work">
          <MappingPanel job={job.id} />
        </ForRole>
      )}
    </div>
  );
}

/** The job as the server tells of it while it goes on. */
function useFollowed(given: JobView): JobView {
  const queries = useQueryClient();
  const [latest, setLatest] = useState(given);
  useEffect(() => {
    setLatest(given);
    if (THROUGH.includes(given.state)) {
      return;
    }
    const events = new EventSource(`/api/jobs/${given.id}/events`);
    events.onmessage = (event) => {
      const job = JSON.parse(event.data) as JobView;
      setLatest(job);
      if (THROUGH.includes(job.state)) {
        events.close();
        readAllAnew(queries);
      }
    };
    return () => events.close();
  }, [given, queries]);
  return latest;
}

/** Rows are stored while others are read; what comes after is short. */
function doneShare(job: JobView): number {
  if (job.state === "reading") {
    return (job.bytes_read / Math.max(job.bytes, 1)) * 0.85;
  }
  return { storing: 0.85, replaying: 0.95 }[job.state as string] ?? 0;
}

function progressWords(job: JobView): string {
  const aside = job.set_aside ? `, ${count(job.set_aside)} set aside` : "";
  if (job.state === "reading") {
    const share = percent(job.bytes_read / Math.max(job.bytes, 1));
    return `${count(job.rows, "row")} read${aside} · ${share} of ${bytes(job.bytes)}`;
  }
  if (job.state === "storing") {
    return `${count(job.stored)} of ${count(job.rows, "row")} stored${aside}`;
  }
  return bytes(job.bytes);
}
