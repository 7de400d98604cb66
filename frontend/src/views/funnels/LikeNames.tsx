import { Link } from "react-router";
import type { FunnelFigures } from "../../api/client";
import { useMapView } from "../../api/queries";
import { short, shownName } from "../../format";
import { scopeSearch, useAddress, useScope } from "../../scope/scope";

const MOST = 4;

/** Some were lost to names that are nearly a screen's of the map: as long as the map does not know
 * them, each is a loss of its own. */
export function LikeNames({ app, stages }: { app: string; stages: FunnelFigures["stages"] }) {
  const [address] = useAddress();
  const screens = useMapView(app, useScope()).data?.screens ?? [];
  const lost = new Set(stages.flatMap(({ losses }) => losses.map(({ screen }) => screen)));
  const like = screens.flatMap(({ name, proposal }) =>
    proposal?.screen && lost.has(name) ? [{ name, screen: proposal.screen }] : [],
  );
  if (!like.length) {
    return null;
  }
  const told = like
    .slice(0, MOST)
    .map(({ name, screen }) => `“${short(shownName(name), 30)}” is like ${short(screen, 30)}`);
  return (
    <p className="soft small-text" data-testid="like-names">
      Some went to names that the map does not know: {told.join(", ")}
      {like.length > MOST && `, and ${like.length - MOST} more`}. Taken in the{" "}
      <Link to={{ pathname: "/app-map", search: scopeSearch(address) }}>App map</Link>, they are one
      with these.
    </p>
  );
}
