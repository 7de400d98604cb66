import { type ReactNode, useEffect, useState } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import type { AppSummary } from "../api/client";
import { ScopeBar } from "../scope/ScopeBar";
import { scopeSearch, useAddress } from "../scope/scope";
import { KeyHelp } from "./KeyHelp";
import { isTyping } from "./keys";

const VIEWS: { group?: string; path: string; word: string; icon: string; key: string }[] = [
  { group: "Bring in", path: "/logs", word: "Logs", icon: "bi-box-arrow-in-down", key: "l" },
  { path: "/health", word: "Health", icon: "bi-clipboard2-pulse", key: "h" },
  { path: "/app-map", word: "App map", icon: "bi-map", key: "m" },
  { group: "Walk", path: "/journeys", word: "Journeys", icon: "bi-signpost-split", key: "j" },
  { group: "Getting in", path: "/start-up", word: "Start-up", icon: "bi-power", key: "u" },
  { path: "/onboarding", word: "Onboarding", icon: "bi-ladder", key: "o" },
  { path: "/sign-in", word: "Sign-in", icon: "bi-door-open", key: "s" },
  { path: "/funnels", word: "Own funnels", icon: "bi-funnel", key: "f" },
  { group: "Inside and out", path: "/tabs", word: "Tabs", icon: "bi-segmented-nav", key: "a" },
  { path: "/loops", word: "Loops", icon: "bi-arrow-repeat", key: "r" },
  { path: "/links", word: "Deep links", icon: "bi-link-45deg", key: "k" },
  { path: "/drop-offs", word: "Drop-offs", icon: "bi-box-arrow-right", key: "d" },
];

interface Props {
  app: AppSummary;
  apps: AppSummary[];
  children: ReactNode;
}

export function Shell({ app, apps, children }: Props) {
  const [address] = useAddress();
  const [help, setHelp] = useState(false);
  const [narrow, setNarrow] = useState(false);
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const search = scopeSearch(address);

  useEffect(() => {
    const view = VIEWS.find((one) => pathname.startsWith(one.path));
    document.title = `${view?.word ?? "Mossy Trail"} · ${app.name}`;
  }, [pathname, app.name]);

  useEffect(() => {
    let going = false;
    function onKey(event: KeyboardEvent) {
      if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey) {
        return;
      }
      if (event.key === "?") {
        setHelp(true);
      } else if (going) {
        const view = VIEWS.find((one) => one.key === event.key);
        if (view) {
          navigate({ pathname: view.path, search });
        }
      }
      going = event.key === "g";
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [navigate, search]);

  return (
    <div className="frame">
      <nav className={narrow ? "side narrow" : "side"} aria-label="Views">
        <NavLink className="brand text-decoration-none" to={{ pathname: "/logs", search }}>
          <svg viewBox="0 0 32 24" aria-hidden="true">
            <path d="M1 22 9 9l5 6 7-12 10 19z" />
          </svg>
          <span className="word">Mossy Trail</span>
        </NavLink>
        {VIEWS.map((view) => (
          <div key={view.path}>
            {view.group && <div className="group">{view.group}</div>}
            <NavLink className="view" to={{ pathname: view.path, search }} title={view.word}>
              <i className={`bi ${view.icon}`} aria-hidden="true" />
              <span className="word">{view.word}</span>
            </NavLink>
          </div>
        ))}
        <div className="foot">
          <button
            type="button"
            className="quiet"
            aria-label={narrow ? "Widen the navigation" : "Narrow the navigation"}
            onClick={() => setNarrow(!narrow)}
          >
            <i className={`bi bi-chevron-double-${narrow ? "right" : "left"}`} />
          </button>
          <ThemeButton />
          <button type="button" className="quiet" aria-label="Keys" onClick={() => setHelp(true)}>
            ?
          </button>
        </div>
      </nav>
      <ScopeBar app={app} apps={apps} />
      <main className="stage">{children}</main>
      <KeyHelp show={help} onHide={() => setHelp(false)} />
    </div>
  );
}

const THEME = "mossy-theme";

function ThemeButton() {
  const [theme, setTheme] = useState(() => localStorage.getItem(THEME) ?? "light");
  useEffect(() => {
    document.documentElement.dataset.bsTheme = theme;
    localStorage.setItem(THEME, theme);
  }, [theme]);
  const other = theme === "light" ? "dark" : "light";
  return (
    <button
      type="button"
      className="quiet"
      aria-label={`Turn ${other}`}
      onClick={() => setTheme(other)}
    >
      <i className={`bi bi-${theme === "light" ? "moon" : "sun"}`} />
    </button>
  );
}
