import { Suspense } from "react";
import { Navigate, Route, Routes, useSearchParams } from "react-router";
import type { AppSummary } from "./api/client";
import { useApps } from "./api/queries";
import { TabsProvider } from "./charts/tabs";
import { short } from "./format";
import { PAGES } from "./pages";
import { Shell } from "./shell/Shell";
import { Empty, Loading, Trouble } from "./shell/states";

export function App() {
  const apps = useApps();
  const [address] = useSearchParams();
  if (apps.isPending) {
    return <Loading what="Opening" />;
  }
  if (apps.isError) {
    return <Trouble problem={apps.error} />;
  }
  const asked = address.get("app");
  const found = apps.data.find((one) => one.key === asked);
  const app = found ?? apps.data[0];
  if (!app) {
    return <Trouble problem={new Error("There is no app yet. Start the server once more.")} />;
  }
  return (
    <TabsProvider tabs={app.tabs}>
      <Shell app={app} apps={apps.data} pages={PAGES}>
        {asked && !found ? (
          <Empty title={`There is no app “${short(asked, 60)}” here.`}>
            It may have another name, or be on another machine. Choose one at the top left.
          </Empty>
        ) : (
          <Suspense fallback={<Loading what="Opening" />}>
            <Views app={app} />
          </Suspense>
        )}
      </Shell>
    </TabsProvider>
  );
}

function Views({ app }: { app: AppSummary }) {
  const [address] = useSearchParams();
  return (
    <Routes>
      {Object.values(PAGES)
        .flat()
        .map(({ path, view: View }) => (
          <Route key={path} path={path} element={<View app={app} />} />
        ))}
      <Route
        path="*"
        element={
          <Navigate
            to={{ pathname: app.logs ? "/findings" : "/logs", search: `${address}` }}
            replace
          />
        }
      />
    </Routes>
  );
}
