import { useState } from "react";
import { api, dataOf, type Schemas } from "../../api/client";
import { useChange } from "../../api/queries";
import { count } from "../../format";
import { Raw } from "../../shell/Raw";
import { Trouble } from "../../shell/states";

interface Props {
  app: string;
  hasKey: boolean;
  log: Schemas["LogSummary"] | undefined;
}

/** Events that the app sends by itself: where to, with which key, and how many came twice. */
export function LiveLine({ app, hasKey, log }: Props) {
  const [key, setKey] = useState("");
  const make = useChange(async () => {
    const path = { params: { path: { app } } };
    setKey((await dataOf(api.POST("/api/apps/{app}/ingest-key", path))).key);
  });
  const address = `${window.location.origin}/api/apps/${encodeURIComponent(app)}/events`;
  return (
    <div className="small-text mt-3 column">
      <span className="soft">
        {log?.duplicates
          ? `${count(log.duplicates, "live event")} came twice and were dropped. `
          : ""}
        {log?.waiting ? `${count(log.waiting, "live event")} will be read in a moment. ` : ""}
        {hasKey
          ? "The app can send its events as they happen. "
          : "An app can also send its events as they happen, as CloudEvents or OpenTelemetry logs. "}
      </span>
      <button
        type="button"
        className="figure-button"
        data-testid="make-key"
        disabled={make.isPending}
        onClick={() => make.mutate(undefined)}
      >
        {hasKey ? "make another key" : "make a key for it"}
      </button>
      {key && (
        <div className="commands mt-1" data-testid="ingest-key">
          This key is shown once{hasKey ? "; one from before holds no longer" : ""}:
          <Raw>{`curl ${address} \\
  -H 'Authorization: Bearer ${key}' \\
  -H 'Content-Type: application/cloudevents+json' \\
  -d '{"specversion": "1.0", "id": "1", "source": "phone-1", "type": "screen_view",
       "time": "${new Date().toISOString().slice(0, 19)}Z", "subject": "user-1",
       "data": {"screen": "Home"}}'`}</Raw>
          or, where the app has OpenTelemetry:
          <Raw>{`OTEL_EXPORTER_OTLP_LOGS_ENDPOINT=${window.location.origin}/v1/logs
OTEL_EXPORTER_OTLP_LOGS_PROTOCOL=http/protobuf
OTEL_EXPORTER_OTLP_LOGS_HEADERS=authorization=Bearer%20${key}`}</Raw>
        </div>
      )}
      {make.isError && <Trouble problem={make.error} />}
    </div>
  );
}
