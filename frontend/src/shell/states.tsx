import { notifyManager, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useCallback, useSyncExternalStore } from "react";
import { Alert, Spinner } from "react-bootstrap";
import { Problem } from "../api/client";

export function Loading({ what = "Counting" }: { what?: string }) {
  const waiting = useWaiting();
  return (
    <div className="p-4 soft" role="status">
      <Spinner size="sm" className="me-2" />
      {what}…
      {waiting && (
        <div className="mt-2">
          {waiting.message} {waiting.detail}
        </div>
      )}
    </div>
  );
}

/** Why there is no answer yet, where the server has said so; it is asked again. */
function useWaiting(): Problem | undefined {
  const queries = useQueryClient().getQueryCache();
  return useSyncExternalStore(
    useCallback((tell) => queries.subscribe(notifyManager.batchCalls(tell)), [queries]),
    () =>
      queries
        .findAll({ fetchStatus: "fetching" })
        .map((query) => query.state.fetchFailureReason)
        .find((why): why is Problem => why instanceof Problem && why.status === 503),
  );
}

export function Trouble({ problem }: { problem: Error }) {
  return (
    <Alert variant="danger" className="m-3" style={{ maxWidth: "46rem" }}>
      <strong>{problem.message}</strong>
      {problem instanceof Problem && problem.detail && <div>{problem.detail}</div>}
      {problem instanceof Problem && problem.report && (
        <div>
          <a href={problem.report} download>
            Save a report of it
          </a>
          , to send to whoever mends the tool: it says where the code broke, and nothing of your
          logs.
        </div>
      )}
    </Alert>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="view-body">
      <h1>{title}</h1>
      <div className="soft mt-2" style={{ maxWidth: "44rem" }}>
        {children}
      </div>
    </div>
  );
}
