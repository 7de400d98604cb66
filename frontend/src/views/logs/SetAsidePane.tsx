import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useSetAside } from "../../api/queries";
import { called, count } from "../../format";
import { MoreRows, Pane, ROWS_AT_FIRST } from "../../shell/Pane";
import { Raw } from "../../shell/Raw";
import { Loading, Trouble } from "../../shell/states";

interface Props {
  log: Schemas["LogSummary"];
  reason: string;
  onReason: (reason: string) => void;
  onClose: () => void;
}

/** The rows of a log that were set aside: why, where, and as they came. */
export function SetAsidePane({ log, reason, onReason, onClose }: Props) {
  const [limit, setLimit] = useState(ROWS_AT_FIRST);
  const found = useSetAside(log.id, reason, limit);
  return (
    <Pane
      wide
      label="Rows set aside"
      title={
        <span className="fw-semibold">
          {count(log.set_aside, "row")} of {called(log.files)} set aside
        </span>
      }
      head={
        <>
          <div className="small-text">
            {Object.entries(log.reasons).map(([words, n]) => (
              <button
                type="button"
                key={words}
                className={`figure-button d-block ${reason === words ? "chosen" : ""}`}
                aria-pressed={reason === words}
                onClick={() => onReason(reason === words ? "" : words)}
              >
                {count(n)} · {words}
              </button>
            ))}
          </div>
          <a className="small-text" href={`/api/logs/${log.id}/set-aside.csv`}>
            download all as CSV
          </a>
        </>
      }
      onClose={onClose}
    >
      <div className="overflow-auto p-2">
        {found.isPending && <Loading what="Reading" />}
        {found.isError && <Trouble problem={found.error} />}
        {found.data?.rows.map((row) => (
          <div
            key={`${row.file}:${row.line}`}
            className="border-bottom pb-1 mb-1"
            data-testid="set-aside"
          >
            <span className="fw-semibold">line {count(row.line)}</span>{" "}
            <span className="mark-word">{row.reason}</span>
            <Raw>{row.text}</Raw>
          </div>
        ))}
        {found.data && (
          <MoreRows
            total={found.data.total}
            limit={limit}
            rest="; the download has all"
            onLimit={setLimit}
          />
        )}
      </div>
    </Pane>
  );
}
