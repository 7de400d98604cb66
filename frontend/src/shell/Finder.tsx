import { useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useDeferredValue, useId, useState } from "react";
import { Modal } from "react-bootstrap";
import { useNavigate } from "react-router";
import type { AppSummary } from "../api/client";
import { journeysPage, useKept, useVocabulary } from "../api/queries";
import { short, shownName } from "../format";
import { scopeSearch, useAddress, useScope } from "../scope/scope";

interface Props {
  app: AppSummary;
  pages: { path: string; word: string }[];
  show: boolean;
  onHide: () => void;
}

/** Something that was found, and where it leads. */
interface Hit {
  kind: string;
  name: string;
  pathname: string;
  more?: Record<string, string>;
}

const MOST = 6;

/** Finds a view, a screen, a user, or what was kept, from anywhere. */
export function Finder({ app, pages, show, onHide }: Props) {
  return (
    <Modal show={show} onHide={onHide} aria-label="Find" enforceFocus>
      {show && <Field app={app} pages={pages} onHide={onHide} />}
    </Modal>
  );
}

function Field({ app, pages, onHide }: Omit<Props, "show">) {
  const [address] = useAddress();
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const list = useId();
  const hits = useHits(app, pages, text.trim());
  const go = (hit: Hit | undefined) => {
    if (hit) {
      onHide();
      navigate({ pathname: hit.pathname, search: scopeSearch(address, hit.more) });
    }
  };
  const onKey = (event: KeyboardEvent) => {
    if (event.key === "ArrowDown") {
      setAt(Math.min(at + 1, hits.length - 1));
    } else if (event.key === "ArrowUp") {
      setAt(Math.max(at - 1, 0));
    } else if (event.key === "Enter") {
      go(hits[at]);
    } else {
      return;
    }
    event.preventDefault();
  };
  return (
    <Modal.Body>
      <input
        // biome-ignore lint/a11y/noAutofocus: it was asked for by a key
        autoFocus
        className="form-control"
        role="combobox"
        aria-label="Find a view, a screen, a user, a funnel or a pattern"
        aria-expanded={hits.length > 0}
        aria-controls={list}
        aria-activedescendant={hits[at] ? `${list}-${at}` : undefined}
        placeholder="a view, a screen, a user, what was kept"
        maxLength={300}
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        onKeyDown={onKey}
      />
      <div role="listbox" id={list} aria-label="Found" className="found mt-2" data-testid="found">
        {hits.map((hit, i) => (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the field has the keys
          <div
            key={`${hit.kind} ${hit.name}`}
            id={`${list}-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === at}
            className={`hit ${i === at ? "chosen" : ""}`}
            onMouseEnter={() => setAt(i)}
            onClick={() => go(hit)}
          >
            <span className="clip">{short(shownName(hit.name), 60)}</span>
            <span className="soft small-text">{hit.kind}</span>
          </div>
        ))}
        {text.trim() && !hits.length && <p className="soft mb-0">Nothing is called so.</p>}
      </div>
    </Modal.Body>
  );
}

function useHits(app: AppSummary, pages: Props["pages"], text: string): Hit[] {
  const asked = useDeferredValue(text);
  const vocabulary = useVocabulary(app.key).data;
  const funnels = useKept(app.key, "funnel").data ?? [];
  const patterns = useKept(app.key, "pattern").data ?? [];
  const scope = useScope();
  const users = useQuery({
    ...journeysPage(app.key, scope, { sort: "newest", search: asked }, 0),
    enabled: asked !== "" && app.logs > 0,
  });
  const all: Hit[] = [
    ...pages.map(({ path, word }) => ({ kind: "view", name: word, pathname: path })),
    ...(vocabulary?.screens ?? []).map(({ name }) => ({
      kind: "screen: what comes after it",
      name,
      pathname: "/paths",
      more: { at: "screen", what: name },
    })),
    ...funnels.map(({ name, document }) => ({
      kind: "own funnel",
      name,
      pathname: "/funnels",
      more: { funnel: JSON.stringify(document) },
    })),
    ...patterns.map(({ name, document }) => ({
      kind: "pattern",
      name,
      pathname: "/patterns",
      more: { pattern: String(document.pattern) },
    })),
    ...[...new Set((users.data?.journeys ?? []).map(({ user }) => user))].map((user) => ({
      kind: "user: their journeys",
      name: user,
      pathname: "/journeys",
      more: { search: user },
    })),
  ];
  const wanted = text.toLowerCase();
  const found = all.filter(({ name }) => name.toLowerCase().includes(wanted));
  const kinds = [...new Set(found.map(({ kind }) => kind))];
  return text
    ? kinds.flatMap((kind) => found.filter((one) => one.kind === kind).slice(0, MOST))
    : [];
}
