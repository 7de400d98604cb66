import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import type { AppSummary } from "../api/client";
import { scopeSearch, useAddress } from "../scope/scope";
import { Finder } from "./Finder";
import { KeyHelp } from "./KeyHelp";
import { isTyping } from "./keys";
import { ScopeBar } from "./ScopeBar";

/** What the frame shows of a page. */
interface Entry {
  path: string;
  word: string;
  icon: string;
  key: string;
}
export type Entries = Record<string, Entry[]>;

interface Props {
  app: AppSummary;
  apps: AppSummary[];
  /** By their groups, in the order of work. */
  pages: Entries;
  /** Whoever is at the page may add apps. */
  adds: boolean;
  children: ReactNode;
}

export function Shell({ app, apps, pages, adds, children }: Props) {
  const [address] = useAddress();
  const [help, setHelp] = useState(false);
  const [finding, setFinding] = useState(false);
  const [narrow, setNarrow] = useState(false);
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const search = scopeSearch(address);
  const entries = useMemo(() => Object.values(pages).flat(), [pages]);

  useEffect(() => {
    const view = entries.find((one) => pathname.startsWith(one.path));
    document.title = `${view?.word ?? "Mossy Trail"} · ${app.name}`;
  }, [entries, pathname, app.name]);

  useEffect(() => {
    let going = false;
    function onKey(event: KeyboardEvent) {
      if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey) {
        return;
      }
      if (event.key === "?") {
        setHelp(true);
      } else if (event.key === "/") {
        event.preventDefault(); // or the field would begin with it
        setFinding(true);
      } else if (going) {
        const view = entries.find((one) => one.key === event.key);
        if (view) {
          navigate({ pathname: view.path, search });
        }
      }
      going = event.key === "g";
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [entries, navigate, search]);

  const shown = useRef(pathname);
  // Who goes to another view by keyboard is in it, and not at the top of the page.
  useEffect(() => {
    if (shown.current !== pathname) {
      shown.current = pathname;
      document.getElementById("view")?.focus({ preventScroll: true });
    }
  }, [pathname]);

  return (
    <div className="frame">
      <button
        type="button"
        className="skip"
        onClick={() => document.getElementById("view")?.focus()}
      >
        To the view
      </button>
      <nav className={narrow ? "side narrow" : "side"} aria-label="Views">
        <NavLink className="brand text-decoration-none" to={{ pathname: "/", search }}>
          <svg viewBox="0 0 32 24" aria-hidden="true">
            <path d="M1 22 9 9l5 6 7-12 10 19z" />
          </svg>
          <span className="word">Mossy Trail</span>
        </NavLink>
        {Object.entries(pages).map(([group, own]) => (
          <div key={group}>
            <div className="group">{group}</div>
            {own.map((page) => (
              <NavLink
                key={page.path}
                className="view"
                to={{ pathname: page.path, search }}
                title={page.word}
              >
                <i className={`bi bi-${page.icon}`} aria-hidden="true" />
                <span className="word">{page.word}</span>
              </NavLink>
            ))}
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
          <button
            type="button"
            className="quiet"
            aria-label="Find"
            onClick={() => setFinding(true)}
          >
            <i className="bi bi-search" />
          </button>
          <button type="button" className="quiet" aria-label="Keys" onClick={() => setHelp(true)}>
            ?
          </button>
        </div>
      </nav>
      <ScopeBar app={app} apps={apps} adds={adds} />
      <main className="stage" id="view" tabIndex={-1}>
        {children}
      </main>
      <Finder app={app} pages={entries} show={finding} onHide={() => setFinding(false)} />
      <KeyHelp pages={pages} show={help} onHide={() => setHelp(false)} />
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
