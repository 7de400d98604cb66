import { Link } from "react-router";
import type { AppSummary } from "../../api/client";
import { useFit, useHealth } from "../../api/queries";
import { count, date, percent, time } from "../../format";
import { scopeSearch, useAddress } from "../../scope/scope";

/** Whether the log itself is fit to tell: what findings stand on. */
export function LogLine({ app }: { app: AppSummary }) {
  const [address] = useAddress();
  const health = useHealth(app.key).data;
  const fit = useFit(app.key).data;
  if (!health || !fit) {
    return null;
  }
  const share = fit.told ? fit.landed / fit.told : null;
  const loud = Object.keys(health.loud).length;
  const [gap, ...more] = health.gaps;
  return (
    <p className="soft small-text mb-2" data-testid="log-line">
      The log itself:{" "}
      {share === null
        ? "no moves are reported, so they are worked out"
        : `${percent(share)} of reported moves landed as predicted`}
      {gap &&
        `; nothing came in ${date(gap.start)} from ${time(gap.start)} to ${time(gap.end)}${more.length ? ` and in ${count(more.length, "more gap")}` : ""}`}
      {loud > 0 && `; ${count(loud, "thing makes", "things make")} figures wrong or missing`}.{" "}
      <Link to={{ pathname: "/health", search: scopeSearch(address) }}>Health</Link>
    </p>
  );
}
