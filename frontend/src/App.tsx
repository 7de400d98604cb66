import { Navigate, Route, Routes, useSearchParams } from "react-router";
import { useApps } from "./api/queries";
import { TabsProvider } from "./charts/tabs";
import { PAGES } from "./pages";
import { Shell } from "./shell/Shell";
import { Loading, Trouble } from "./shell/states";

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
      <Shell app={app} apps={apps.data} pages={PAGES}>
        <Routes>
          {Object.values(PAGES)
            .flat()
            .map(({ path, view: View }) => (
              <Route key={path} path={path} element={<View app={app} />} />
            ))}
          <Route path="*" element={<Navigate to={{ pathname: "/logs", search: `${address}` }} />} />
        </Routes>
      </Shell>
    </TabsProvider>
  );
}
