import { useRef } from "react";
import type { AppSummary } from "../../api/client";
import { useSaveMap } from "../../api/queries";
import { ForRole } from "../../shell/role";
import { Trouble } from "../../shell/states";
import type { MapDocument } from "./document";

/** The map's file: out, in, and the schema that it is held against. */
export function MapFile({ app, map }: { app: AppSummary; map: MapDocument }) {
  const field = useRef<HTMLInputElement>(null);
  const save = useSaveMap(app.key);
  const address = `/api/apps/${encodeURIComponent(app.key)}/map`;
  return (
    <>
      <span className="small-text d-inline-flex gap-3">
        <ForRole least="work">
          <button
            type="button"
            className="figure-button"
            disabled={save.isPending}
            onClick={() => field.current?.click()}
          >
            bring in a file
          </button>
        </ForRole>
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
        onChange={async (event) => {
          const file = event.target.files?.[0];
          event.target.value = "";
          if (file) {
            save.mutate(await file.text());
          }
        }}
      />
      {save.isError && <Trouble problem={save.error} />}
    </>
  );
}
