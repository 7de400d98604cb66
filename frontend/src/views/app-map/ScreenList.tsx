import { useEffect, useRef, useState } from "react";
import { Form } from "react-bootstrap";
import type { MapView } from "../../api/client";
import { count, short, words } from "../../format";
import { useAddress } from "../../scope/scope";
import { isTyping } from "../../shell/keys";
import { PlainTable } from "../../shell/PlainTable";
import { useMay } from "../../shell/role";
import {
  type MapDocument,
  ROLES,
  type ScreenEntry,
  tabsOf,
  withAlias,
  withRole,
  withScreen,
  withTab,
} from "./document";
import { screenFigure } from "./words";

interface Props {
  view: MapView;
  map: MapDocument;
  figure: string | null;
  fixed: boolean;
  onChange: (map: MapDocument) => void;
  onFigure: (figure: string) => void;
}

type Screen = MapView["screens"][number];

/** Logged names that need no answer: only case, spaces or dashes differ from the map's. */
function FoldedNames({ folded }: { folded: MapView["folded"] }) {
  const names = Object.entries(folded);
  if (!names.length) {
    return null;
  }
  return (
    <details className="mb-2 small-text" data-testid="folded-names">
      <summary>
        {count(names.length, "name")} in the log {names.length === 1 ? "is" : "are"} read as a
        screen whose name differs in case, spaces or dashes alone
      </summary>
      {names.slice(0, MOST_FOLDED).map(([logged, screen]) => (
        <div key={logged}>
          <span className="soft">“{short(logged, 60)}” is</span> {short(screen, 60)}
        </div>
      ))}
      <span className="soft">
        <code>names: exact</code> in the map tells such names apart.
      </span>
    </details>
  );
}

const MOST_FOLDED = 200;

/** Names that the map does not know first, each with what it may mean; then all screens. */
export function ScreenList(props: Props) {
  const { view, map } = props;
  const [address, change] = useAddress();
  const text = address.get("find") ?? "";
  const unknown = view.screens.filter((screen) => screen.unknown);
  const wanted = text.trim().toLowerCase();
  const seen = new Map(view.screens.map((screen) => [screen.name, screen]));
  const entries = (map.screens ?? []).filter((entry) =>
    [entry.name, ...(entry.aliases ?? []), entry.role ?? "content", ...tabsOf(map, entry)].some(
      (one) => one.toLowerCase().includes(wanted),
    ),
  );
  return (
    <>
      {unknown.length > 0 && <UnknownNames {...props} unknown={unknown} />}
      <FoldedNames folded={view.folded} />
      {(map.screens ?? []).length > 0 && (
        <>
          <Form.Control
            size="sm"
            type="search"
            className="mb-1"
            style={{ maxWidth: "16rem" }}
            placeholder="name, role or tab"
            aria-label="Find a screen"
            value={text}
            onChange={(event) => change({ find: event.target.value })}
          />
          <PlainTable className="screens" testid="screens">
            <thead>
              <tr>
                <th>screen</th>
                <th>role</th>
                <th>tab</th>
                <th className="n">journeys</th>
                <th className="n">visits</th>
                <th>also called</th>
              </tr>
            </thead>
            <tbody>
              {entries.map((entry) => (
                <Row key={entry.name} {...props} entry={entry} seen={seen.get(entry.name)} />
              ))}
            </tbody>
          </PlainTable>
          {!entries.length && <p className="soft">No screen fits “{text}”.</p>}
        </>
      )}
    </>
  );
}

function Row({
  map,
  entry,
  seen,
  figure,
  fixed,
  onChange,
  onFigure,
}: Props & { entry: ScreenEntry; seen?: Screen }) {
  const tabs = tabsOf(map, entry);
  const root = map.tabs?.some((tab) => tab.root === entry.name);
  const own = screenFigure(entry.name);
  return (
    <tr className={figure === own ? "table-active" : ""}>
      <td className="clip" style={{ maxWidth: "16rem" }} title={entry.name}>
        {entry.name}
      </td>
      <td>
        <Form.Select
          size="sm"
          className="in-row"
          aria-label={`Role of ${entry.name}`}
          value={entry.role ?? "content"}
          disabled={fixed}
          onChange={(event) => onChange(withRole(map, entry.name, event.target.value))}
        >
          {ROLES.map((role) => (
            <option key={role} value={role}>
              {words(role)}
            </option>
          ))}
        </Form.Select>
      </td>
      <td>
        {root || tabs.length > 1 ? (
          <span className={root ? "" : "soft"}>
            {tabs.join(", ")}
            {root && <span className="soft small-text"> · root</span>}
          </span>
        ) : (
          <Form.Select
            size="sm"
            className="in-row"
            aria-label={`Tab of ${entry.name}`}
            value={tabs[0] ?? ""}
            disabled={fixed}
            onChange={(event) => onChange(withTab(map, entry.name, event.target.value))}
          >
            <option value="">none</option>
            {map.tabs
              ?.filter((tab) => tab.kind !== "filter")
              .map((tab) => (
                <option key={tab.name}>{tab.name}</option>
              ))}
          </Form.Select>
        )}
      </td>
      <td className="n">
        {seen?.journeys ? (
          <button
            type="button"
            className={`figure-button ${figure === own ? "chosen" : ""}`}
            aria-pressed={figure === own}
            data-screen={entry.name}
            onClick={() => onFigure(own)}
          >
            {count(seen.journeys)}
          </button>
        ) : (
          <span className="soft">none</span>
        )}
      </td>
      <td className="n soft">{seen?.visits ? count(seen.visits) : ""}</td>
      <td className="soft small-text clip" style={{ maxWidth: "18rem" }}>
        {entry.aliases?.map((alias) => `“${short(alias, 40)}”`).join(" ")}
      </td>
    </tr>
  );
}

function UnknownNames({
  map,
  unknown,
  figure,
  fixed,
  onChange,
  onFigure,
}: Props & { unknown: Screen[] }) {
  const [at, setAt] = useState(0);
  const [answer, setAnswer] = useState<"y" | "n" | null>(null);
  const chosen = Math.min(at, unknown.length - 1);
  const proposed = unknown.filter((screen) => screen.proposal);
  const list = useRef<HTMLTableSectionElement>(null);

  useEffect(() => {
    function onKey(event: KeyboardEvent) {
      const screen = unknown[chosen];
      if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey || !screen) {
        return;
      }
      if (event.key === "y" || event.key === "n") {
        setAnswer(event.key);
      } else if (event.key === "ArrowDown" || event.key === "ArrowUp") {
        const by = event.key === "ArrowDown" ? 1 : -1;
        const last = unknown.length - 1;
        setAt((old) => Math.max(0, Math.min(Math.min(old, last) + by, last)));
      } else {
        return;
      }
      event.preventDefault();
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [unknown, chosen]);

  const may = useMay("work");
  useEffect(() => {
    if (chosen > 0) {
      list.current?.children[chosen]?.scrollIntoView({ block: "nearest" });
    }
  }, [chosen]);

  // What is pressed while the answer before is being kept waits for it, and is not lost.
  useEffect(() => {
    const screen = unknown[chosen];
    if (!answer || fixed || !screen) {
      return;
    }
    setAnswer(null);
    if (answer === "n") {
      onChange(withScreen(map, screen.name));
    } else if (screen.proposal) {
      onChange(withAlias(map, screen.proposal.screen, screen.name));
    }
  }, [answer, map, unknown, chosen, fixed, onChange]);

  return (
    <section className="mb-3">
      <div className="d-flex gap-3 align-items-baseline mb-1">
        <h2 className="mb-0">Names that the map does not know</h2>
        {proposed.length > 1 && may && (
          <button
            type="button"
            className="figure-button"
            disabled={fixed}
            onClick={() =>
              onChange(
                proposed.reduce(
                  (next, screen) =>
                    screen.proposal ? withAlias(next, screen.proposal.screen, screen.name) : next,
                  map,
                ),
              )
            }
          >
            take all {count(proposed.length)} proposals
          </button>
        )}
        {may && (
          <span className="small-text soft">
            <kbd>y</kbd> takes the proposal, <kbd>n</kbd> makes it a screen of its own
          </span>
        )}
      </div>
      <div className="unknown-names">
        <PlainTable className="mb-0">
          <tbody ref={list}>
            {unknown.map((screen, i) => {
              const own = screenFigure(screen.name);
              return (
                <tr
                  key={screen.name}
                  data-testid="unknown-name"
                  className={i === chosen ? "table-active" : ""}
                  onClick={() => setAt(i)}
                >
                  <td className="clip" style={{ maxWidth: "14rem" }} title={screen.name}>
                    “{short(screen.name, 60)}”
                  </td>
                  <td className="n">
                    <button
                      type="button"
                      className={`figure-button ${figure === own ? "chosen" : ""}`}
                      onClick={() => onFigure(own)}
                    >
                      {count(screen.journeys, "journey")}
                    </button>
                  </td>
                  <td className="text-nowrap">
                    {screen.proposal ? (
                      <button
                        type="button"
                        className="figure-button"
                        disabled={fixed}
                        onClick={() =>
                          screen.proposal &&
                          onChange(withAlias(map, screen.proposal.screen, screen.name))
                        }
                      >
                        it is {short(screen.proposal.screen, 40)}
                      </button>
                    ) : (
                      <span className="soft">like none of them</span>
                    )}
                  </td>
                  <td className="soft small-text">{screen.proposal?.why}</td>
                  <td>
                    <button
                      type="button"
                      className="figure-button text-nowrap"
                      disabled={fixed}
                      onClick={() => onChange(withScreen(map, screen.name))}
                    >
                      a screen of its own
                    </button>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </PlainTable>
      </div>
    </section>
  );
}
