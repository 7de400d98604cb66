import { useRef } from "react";
import { type AppSummary, api, dataOf } from "../../api/client";
import { useChange } from "../../api/queries";
import { count } from "../../format";
import { Trouble } from "../../shell/states";

/** The app's map in one line, and the way to bring in another. */
export function MapLine({ app }: { app: AppSummary }) {
  const field = useRef<HTMLInputElement>(null);
  const replace = useChange(async (file: File) => {
    const text = await file.text();
    return dataOf(
      api.PUT("/api/apps/{app}/map", {
        params: { path: { app: app.key } },
        body: text,
        bodySerializer: (body: string) => body,
        headers: { "Content-Type": "text/plain" },
      }),
    );
  });
  return (
    <>
      <p className="soft mb-2 mt-1">
        {app.map === null
          ? "The app has no map: every screen is taken as plain content, in no tab. "
          : `App map, version ${app.map}: ${count(app.screens, "screen")}, ${count(app.tabs.length, "tab")}. `}
        <button
          type="button"
          className="figure-button"
          disabled={replace.isPending}
          onClick={() => field.current?.click()}
        >
          {app.map === null ? "bring in a map" : "replace"}
        </button>
        {app.map !== null && (
          <a className="px-1" href={`/api/apps/${encodeURIComponent(app.key)}/map`}>
            download
          </a>
        )}
      </p>
      <input
        ref={field}
        type="file"
        hidden
        data-testid="map-file"
        accept=".yaml,.yml,.json"
        onChange={(event) => {
          const file = event.target.files?.[0];
          event.target.value = "";
          if (file) {
            replace.mutate(file);
          }
        }}
      />
      {replace.isError && <Trouble problem={replace.error} />}
    </>
  );
}
