import { useCallback } from "react";
import { Nav } from "react-bootstrap";
import type { AppSummary, MapView } from "../../api/client";
import { useMapView, useSaveMap, useTakeVersion } from "../../api/queries";
import { count } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { Evidence } from "../../shell/Evidence";
import { ForRole, useMay } from "../../shell/role";
import { Empty, Loading, Trouble } from "../../shell/states";
import { FitLine } from "../fit/Fit";
import { AppPicture } from "./AppPicture";
import { Connections } from "./Connections";
import { Drafted } from "./Drafted";
import type { MapDocument } from "./document";
import { HistoryRules } from "./HistoryRules";
import { MapFile } from "./MapFile";
import { PlanAndPractice } from "./PlanAndPractice";
import { ScreenList } from "./ScreenList";

const PARTS = {
  screens: "Screens",
  connections: "Tabs, links, gates",
  picture: "Picture",
  history: "Back and history",
  practice: "Plan and practice",
  draft: "Draft",
} as const;
type Part = keyof typeof PARTS;

/** What is known of the app, beside what is seen of it; each change holds at once, everywhere. */
export function AppMapView({ app }: { app: AppSummary }) {
  const scope = useScope();
  const [address, change] = useAddress();
  const found = useMapView(app.key, scope);
  const save = useSaveMap(app.key);
  const fixed = !useMay("work") || save.isPending;
  const saveMap = (next: MapDocument) => save.mutate(JSON.stringify(next));
  const figure = address.get("figure");
  const choose = useCallback(
    (chosen: string) => change({ figure: chosen === figure ? null : chosen }),
    [change, figure],
  );
  if (found.isPending) {
    return <Loading />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const view = found.data;
  const map = view.document as unknown as MapDocument;
  if (!app.logs && app.map === null) {
    return (
      <Empty title="There is no log of this app yet, and no map.">
        Bring a log in under Logs; then a map can be drafted from it here.
        <MapFile app={app} map={map} />
      </Empty>
    );
  }
  const asked = address.get("show");
  const part: Part = asked && asked in PARTS ? (asked as Part) : "screens";
  return (
    <>
      <div className="view-body">
        <h1>{sentence(app, view)}</h1>
        <FitLine app={app} />
        <div className="d-flex flex-wrap gap-3 align-items-baseline mb-2">
          <Nav
            variant="underline"
            activeKey={part}
            onSelect={(chosen) => change({ show: chosen === "screens" ? null : chosen })}
          >
            {Object.entries(PARTS).map(([key, word]) => (
              <Nav.Item key={key}>
                <Nav.Link eventKey={key} as="button" className="py-1 px-0" data-part={key}>
                  {word}
                </Nav.Link>
              </Nav.Item>
            ))}
          </Nav>
          <Versions app={app.key} view={view} />
          <MapFile app={app} map={map} />
        </div>
        {save.isError && <Trouble problem={save.error} />}
        {part === "screens" && (
          <ScreenList
            view={view}
            map={map}
            figure={figure}
            fixed={fixed}
            onChange={saveMap}
            onFigure={choose}
          />
        )}
        {part === "connections" && <Connections map={map} fixed={fixed} onChange={saveMap} />}
        {part === "picture" && (
          <AppPicture app={app.key} view={view} tabs={app.tabs} figure={figure} onFigure={choose} />
        )}
        {part === "history" && (
          <HistoryRules app={app.key} map={map} fixed={fixed} onChange={saveMap} />
        )}
        {part === "practice" && <PlanAndPractice app={app.key} view={view} />}
        {part === "draft" && (
          <Drafted
            app={app.key}
            onTake={(next) => {
              saveMap(next);
              change({ show: null });
            }}
          />
        )}
      </div>
      {figure && <Evidence app={app.key} scope={scope} measure="app-map" figure={figure} />}
    </>
  );
}

function sentence(app: AppSummary, view: MapView): string {
  const known = view.screens.filter((screen) => !screen.unknown).length;
  const unknown = view.screens.length - known;
  const names = unknown === 1 ? "1 name" : `${count(unknown)} names`;
  if (app.map === null) {
    return `The app has no map yet; the log names ${count(view.screens.length, "screen")}.`;
  }
  const has = `The map has ${count(known, "screen")} in ${count(app.tabs.length, "tab")}`;
  if (!app.logs) {
    return `${has}. There is no log of this app yet.`;
  }
  if (!unknown) {
    return `${has}, and every name in the log is one of them.`;
  }
  return `${has}; ${names} in the log ${unknown === 1 ? "is" : "are"} not in it.`;
}

/** Which version holds, and the way back to the one before. */
function Versions({ app, view }: { app: string; view: MapView }) {
  const take = useTakeVersion(app);
  const [newest, before] = [...view.versions].reverse();
  if (!newest) {
    return null;
  }
  return (
    <span className="small-text soft">
      version {newest.version}
      {before && (
        <ForRole least="work">
          {" · "}
          <button
            type="button"
            className="figure-button"
            disabled={take.isPending}
            onClick={() => take.mutate(before.version)}
          >
            undo the last change
          </button>
        </ForRole>
      )}
    </span>
  );
}
