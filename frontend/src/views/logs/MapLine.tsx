import { Link } from "react-router";
import type { AppSummary } from "../../api/client";
import { count } from "../../format";
import { scopeSearch, useAddress } from "../../scope/scope";

/** The app's map in one line, and the way to it. */
export function MapLine({ app }: { app: AppSummary }) {
  const [address] = useAddress();
  return (
    <p className="soft mb-2 mt-1">
      {app.map === null
        ? "The app has no map: every screen is taken as plain content, in no tab. "
        : `App map, version ${app.map}: ${count(app.screens, "screen")}, ${count(app.tabs.length, "tab")}. `}
      <Link
        to={{
          pathname: "/app-map",
          search: scopeSearch(address, app.map === null ? { show: "draft" } : {}),
        }}
      >
        {app.map === null ? "have one drafted, or bring one in" : "look at it"}
      </Link>
    </p>
  );
}
