import { Suspense } from "react";
import { Navigate, Route, Routes, useLocation, useSearchParams } from "react-router";
import type { AppSummary } from "./api/client";
import { useApps } from "./api/queries";
import { type Me, useMe } from "./api/team";
import { TabsProvider } from "./charts/tabs";
import { short } from "./format";
import { PAGES, type Pages, teamPages } from "./pages";
import { RoleProvider } from "./shell/role";
import { Shell } from "./shell/Shell";
import { Empty, Loading, Trouble } from "./shell/states";
import { FirstApp } from "./views/team/FirstApp";
import { InvitedGate } from "./views/team/InvitedGate";
import { SignInGate } from "./views/team/SignInGate";

/** Whoever is at the page: in, or at the gate of a server where people sign in. */
export function App() {
  const me = useMe();
  const { pathname } = useLocation();
  if (me.isPending) {
    return <Loading what="Opening" />;
  }
  if (me.isError) {
    return <Trouble problem={me.error} />;
  }
  if (!me.data.signs_in) {
    return <Inside me={null} />;
  }
  if (pathname === "/invited") {
    return <InvitedGate />;
  }
  return me.data.person ? (
    <Inside me={me.data.person} />
  ) : (
    <SignInGate provider={me.data.provider} />
  );
}

function Inside({ me }: { me: Me["person"] }) {
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
    return <FirstApp manages={!me || me.manages_all} />;
  }
  const pages = me ? { ...PAGES, ...teamPages(app.role) } : PAGES;
  return (
    <TabsProvider tabs={app.tabs}>
      <RoleProvider own={app.role}>
        <Shell app={app} apps={apps.data} pages={pages} adds={!me || me.manages_all}>
          {asked && !found ? (
            <Empty title={`There is no app “${short(asked, 60)}” here.`}>
              It may have another name, or be on another machine. Choose one at the top left.
            </Empty>
          ) : (
            <Suspense fallback={<Loading what="Opening" />}>
              <Views app={app} pages={pages} />
            </Suspense>
          )}
        </Shell>
      </RoleProvider>
    </TabsProvider>
  );
}

function Views({ app, pages }: { app: AppSummary; pages: Pages }) {
  const [address] = useSearchParams();
  return (
    <Routes>
      {Object.values(pages)
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
