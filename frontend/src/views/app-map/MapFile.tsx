import { useRef } from "react";
import { type AppSummary, api, dataOf } from "../../api/client";
import { useChange } from "../../api/queries";
import { Trouble } from "../../shell/states";
import type { MapDocument } from "./document";

/** The map's file: out, in, and the schema that it is held against. */
export function MapFile({ app, map }: { app: AppSummary; map: MapDocument }) {
  const field = useRef<HTMLInputElement>(null);
  const replace = useChange(async (file: File) => {
    const body = await file.text();
    return dataOf(
      api.PUT("/api/apps/{app}/map", {
        params: { path: { app: app.key } },
        body,
        bodySerializer: (text: string) => text,
        headers: { "Content-Type": "text/plain" },
      }),
    );
  });
  const address = `/api/apps/${encodeURIComponent(app.key)}/map`;
  return (
    <>
      <span className="small-text d-inline-flex gap-3">
        <button
          type="button"
          className="figure-button"
          disabled={replace.isPending}
          onClick={() => field.current?.click()}
        >
          bring in a file
        </button>
        {map.screens && (
          <a href={address} download>
            download
          </a>
        )}
        <a href={`${address}/schema`} download>
          its schema
        </a>
      </span>
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
