import { useState } from "react";
import { Link } from "react-router";
import { useHealthRows } from "../../api/queries";
import { count, dateWithYear, exactTime } from "../../format";
import { scopeSearch, useAddress } from "../../scope/scope";
import { MoreRows, Pane, ROWS_AT_FIRST } from "../../shell/Pane";
import { Raw } from "../../shell/Raw";
import { Loading, Trouble } from "../../shell/states";
import { aboutRows, type Openable } from "./findings";

interface Props {
  app: string;
  finding: Openable;
  onClose: () => void;
}

/** The rows behind a finding, as they came, each with the way to its journey. */
export function FindingRows({ app, finding, onClose }: Props) {
  const [limit, setLimit] = useState(ROWS_AT_FIRST);
  const [address] = useAddress();
  const found = useHealthRows(app, finding, limit);
  return (
    <Pane
      wide
      label="Rows behind the finding"
      title={
        <>
          <span className="fw-semibold" data-testid="finding-count">
            {found.data ? count(found.data.total, "row") : "…"}
          </span>{" "}
          {aboutRows(finding)}
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
            data-testid="finding-row"
          >
            <div className="d-flex justify-content-between gap-2">
              <span className="clip">
                <span className="fw-semibold">line {count(row.line)}</span>{" "}
                <span className="soft">{row.file}</span>
              </span>
              {row.journey && (
                <Link
                  className="flex-shrink-0"
                  to={{
                    pathname: "/journeys",
                    search: scopeSearch(address, { journey: row.journey, step: String(row.step) }),
                  }}
                >
                  its journey
                </Link>
              )}
            </div>
            <div className="small-text clip">
              {dateWithYear(row.time)} {exactTime(row.time)} · {row.user}
            </div>
            <Raw>{row.raw}</Raw>
          </div>
        ))}
        {found.data && <MoreRows total={found.data.total} limit={limit} onLimit={setLimit} />}
      </div>
    </Pane>
  );
}
