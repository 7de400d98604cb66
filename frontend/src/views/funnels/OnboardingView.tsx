import type { AppSummary } from "../../api/client";
import { useOnboarding } from "../../api/queries";
import { Empty, Loading, Trouble } from "../../shell/states";
import { ChainTable } from "./ChainTable";
import { FunnelPage } from "./FunnelPage";
import type { Written } from "./spec";

/** The chain of onboarding screens that the map names, and getting inside after it. */
export function OnboardingView({ app }: { app: AppSummary }) {
  const spec = useOnboarding(app.key);
  if (spec.isPending) {
    return <Loading />;
  }
  if (spec.isError) {
    return <Trouble problem={spec.error} />;
  }
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then this page shows how many finish onboarding.
      </Empty>
    );
  }
  if (!spec.data) {
    return (
      <Empty title="The map names no onboarding.">
        Draft one under App map, or write the chain into the map's file:{" "}
        <code>funnels: {"{onboarding: [Welcome, …]}"}</code>
      </Empty>
    );
  }
  return (
    <FunnelPage
      app={app}
      spec={spec.data as Written}
      finish="finish onboarding and get inside"
      after={<ChainTable app={app} />}
    />
  );
}
