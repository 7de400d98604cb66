import { useCallback, useState } from "react";
import { Button, Dropdown } from "react-bootstrap";
import { type AppSummary, api, dataOf, type Schemas } from "../../api/client";
import { useChange, useLogs } from "../../api/queries";
import { bytes, called, count, date, days, percent, short, time } from "../../format";
import { useAddress } from "../../scope/scope";
import { MenuItem } from "../../shell/MenuItem";
import { PlainTable } from "../../shell/PlainTable";
import { ForRole } from "../../shell/role";
import { Loading, Trouble } from "../../shell/states";
import { DropZone } from "./DropZone";
import { EraseLine } from "./EraseLine";
import { JobLine } from "./JobLine";
import { LiveLine } from "./LiveLine";
import { MapLine } from "./MapLine";
import { RowFates } from "./RowFates";
import { SetAsidePane } from "./SetAsidePane";
import { type Upload, useUploads } from "./useUploads";

type Log = Schemas["LogSummary"];

export function LogsView({ app }: { app: AppSummary }) {
  const found = useLogs(app.key);
  const uploads = useUploads(app.key);
  const [address, change] = useAddress();
  const close = useCallback(() => change({ aside: null, reason: null }), [change]);
  if (found.isPending) {
    return <Loading what="Reading" />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const { logs, jobs, fates, has_key } = found.data;
  const opened = logs.find((log) => String(log.id) === address.get("aside"));
  return (
    <>
      <div className="view-body">
        <div className="column">
          <h1>{sentence(logs)}</h1>
          <MapLine app={app} />
          <RowFates fates={fates} setAside={logs.reduce((sum, log) => sum + log.set_aside, 0)} />
          <ForRole least="work">
            <DropZone onFiles={uploads.add} first={logs.length + jobs.length === 0} />
          </ForRole>
          {uploads.list.map((upload) => (
            <UploadLine key={upload.id} upload={upload} onDismiss={uploads.dismiss} />
          ))}
        </div>
        {jobs
          .filter((job) => job.state !== "uploading" || !uploads.list.length)
          .map((job) => (
            <div key={job.id} className={job.state === "asking" ? "" : "column"}>
              <JobLine job={job} />
            </div>
          ))}
        {logs.length > 0 && (
          <LogTable logs={logs} onSetAside={(log) => change({ aside: log.id })} />
        )}
        <ForRole least="manage">
          <LiveLine app={app.key} hasKey={has_key} log={logs.find((log) => log.live)} />
          {logs.length > 0 && <EraseLine app={app.key} />}
        </ForRole>
      </div>
      {opened && (
        <SetAsidePane
          log={opened}
          reason={address.get("reason") ?? ""}
          onReason={(reason) => change({ reason })}
          onClose={close}
        />
      )}
    </>
  );
}

interface UploadProps {
  upload: Upload;
  onDismiss: (id: number) => void;
}

function UploadLine({ upload, onDismiss }: UploadProps) {
  return (
    <div className="py-2 border-bottom">
      <div className="d-flex justify-content-between">
        <span className="clip">{called(upload.files)}</span>
        {upload.problem ? (
          <button
            type="button"
            className="quiet"
            aria-label="Take off the list"
            onClick={() => onDismiss(upload.id)}
          >
            <i className="bi bi-x-lg" />
          </button>
        ) : (
          <span className="soft">
            uploading · {bytes(upload.sent)} of {bytes(upload.bytes)}
          </span>
        )}
      </div>
      {upload.problem && <Trouble problem={upload.problem} />}
    </div>
  );
}

function sentence(logs: Log[]): string {
  const read = logs.reduce((sum, log) => sum + log.rows_read, 0);
  const aside = logs.reduce((sum, log) => sum + log.set_aside, 0);
  if (!logs.length) {
    return "There is no log of this app yet.";
  }
  const told = `${count(read, "row")} from ${count(logs.length, "log")}`;
  if (!aside) {
    return `All ${told} were used.`;
  }
  return `Of ${told}, ${count(read - aside)} were used and ${count(aside)} set aside (${percent(aside / read)}).`;
}

interface TableProps {
  logs: Log[];
  onSetAside: (log: Log) => void;
}

function LogTable({ logs, onSetAside }: TableProps) {
  return (
    <PlainTable className="mt-3 align-middle">
      <thead>
        <tr>
          <th>log</th>
          <th>covers</th>
          <th className="n">users</th>
          <th className="n">rows read</th>
          <th className="n">used</th>
          <th className="n">set aside</th>
          <th>brought in</th>
          <th>
            <span className="visually-hidden">what can be done</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {logs.map((log) => (
          <tr key={log.id} data-testid="log">
            <td className="fw-semibold" title={log.files.slice(0, 30).join("\n")}>
              {log.live && <i className="bi bi-broadcast me-1" aria-hidden="true" />}
              {short(called(log.files), 48)}
            </td>
            <td>{log.first !== null && log.last !== null && days(log.first, log.last)}</td>
            <td className="n">{count(log.users)}</td>
            <td className="n">{count(log.rows_read)}</td>
            <td className="n">{count(log.rows)}</td>
            <td className="n">
              {log.set_aside ? (
                <button type="button" className="figure-button" onClick={() => onSetAside(log)}>
                  {count(log.set_aside)}
                </button>
              ) : (
                "0"
              )}
            </td>
            <td className="soft">
              {date(log.created)} {time(log.created)}
            </td>
            <td>
              <div className="d-flex">
                <ForRole least="work">
                  <ReadAnew log={log} />
                </ForRole>
                <ForRole least="manage">
                  <DeleteButton log={log} />
                </ForRole>
              </div>
            </td>
          </tr>
        ))}
      </tbody>
    </PlainTable>
  );
}

/** Opens the mapping of a log that is in; of files of several shapes, one is chosen first. */
function ReadAnew({ log }: { log: Log }) {
  const ask = useChange((number: number) =>
    dataOf(
      api.POST("/api/logs/{log_id}/files/{number}/read-anew", {
        params: { path: { log_id: log.id, number } },
      }),
    ),
  );
  const icon = <i className="bi bi-sliders2" />;
  const words = `Change how ${called(log.files)} is read`;
  if (log.shapes.length < 2) {
    return (
      <button
        type="button"
        className="quiet soft"
        aria-label={words}
        title="Change how this log is read"
        disabled={!log.shapes[0] || ask.isPending}
        onClick={() => log.shapes[0] && ask.mutate(log.shapes[0].file)}
      >
        {icon}
      </button>
    );
  }
  return (
    <Dropdown>
      <Dropdown.Toggle as="button" className="quiet soft" aria-label={words}>
        {icon}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {log.shapes.map((shape) => (
          <MenuItem key={shape.file} onClick={() => ask.mutate(shape.file)}>
            files like {short(shape.name, 60)}
          </MenuItem>
        ))}
      </Dropdown.Menu>
    </Dropdown>
  );
}

function DeleteButton({ log }: { log: Log }) {
  const [asked, setAsked] = useState(false);
  const remove = useChange((id: number) =>
    dataOf(api.DELETE("/api/logs/{log_id}", { params: { path: { log_id: id } } })),
  );
  if (!asked) {
    return (
      <button
        type="button"
        className="quiet soft"
        aria-label={`Delete ${called(log.files)}`}
        title="Delete this log"
        onClick={() => setAsked(true)}
      >
        <i className="bi bi-trash3" />
      </button>
    );
  }
  return (
    <span className="d-flex gap-1">
      <Button
        size="sm"
        variant="danger"
        disabled={remove.isPending}
        onClick={() => remove.mutate(log.id)}
      >
        Delete for good
      </Button>
      <button type="button" className="quiet" onClick={() => setAsked(false)}>
        keep
      </button>
    </span>
  );
}
