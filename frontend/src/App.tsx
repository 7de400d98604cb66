import { Navigate, Route, Routes, useSearchParams } from "react-router";
import { useApps } from "./api/queries";
import { TabsProvider } from "./charts/tabs";
import { Shell } from "./shell/Shell";
import { Loading, Trouble } from "./shell/states";
import { AppMapView } from "./views/app-map/AppMapView";
import { DropOffsView } from "./views/drop-offs/DropOffsView";
import { FunnelsView } from "./views/funnels/FunnelsView";
import { OnboardingView } from "./views/funnels/OnboardingView";
import { HealthView } from "./views/health/HealthView";
import { JourneysView } from "./views/journeys/JourneysView";
import { LinksView } from "./views/links/LinksView";
import { LogsView } from "./views/logs/LogsView";
import { LoopsView } from "./views/loops/LoopsView";
import { SignInView } from "./views/sign-in/SignInView";
import { StartUpView } from "./views/start-up/StartUpView";
import { TabsView } from "./views/tabs/TabsView";

export function App() {
  const apps = useApps();
  const [address] = useSearchParams();
  if (apps.isPending) {
    return <Loading what="Opening" />;
  }
  if (apps.isError) {
    return <Trouble problem={apps.error} />;
  }
  const app = apps.data.find((one) => one.key === address.get("app")) ?? apps.data[0];
  if (!app) {
    return <Trouble problem={new Error("There is no app yet. Start the server once more.")} />;
  }
  return (
    <TabsProvider tabs={app.tabs}>
      <Shell app={app} apps={apps.data}>
        <Routes>
          <Route path="/logs" element={<LogsView app={app} />} />
          <Route path="/health" element={<HealthView app={app} />} />
          <Route path="/app-map" element={<AppMapView app={app} />} />
          <Route path="/journeys" element={<JourneysView app={app} />} />
          <Route path="/start-up" element={<StartUpView app={app} />} />
          <Route path="/onboarding" element={<OnboardingView app={app} />} />
          <Route path="/funnels" element={<FunnelsView app={app} />} />
          <Route path="/tabs" element={<TabsView app={app} />} />
          <Route path="/loops" element={<LoopsView app={app} />} />
          <Route path="/links" element={<LinksView app={app} />} />
          <Route path="/drop-offs" element={<DropOffsView app={app} />} />
          <Route path="/sign-in" element={<SignInView app={app} />} />
          <Route path="*" element={<Navigate to={{ pathname: "/logs", search: `${address}` }} />} />
        </Routes>
      </Shell>
    </TabsProvider>
  );
}
