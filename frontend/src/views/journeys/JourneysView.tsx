import { useQuery } from "@tanstack/react-query";
import { Fragment, useCallback, useEffect, useRef, useState } from "react";
import { Dropdown, Form } from "react-bootstrap";
import type { AppSummary, JourneySummary } from "../../api/client";
import { journeysPage, type ListQuery, type Sort, useJourney } from "../../api/queries";
import { count } from "../../format";
import { figureWords, partWords } from "../../scope/figures";
import { type Scope, useAddress, useOpenedScope } from "../../scope/scope";
import { JourneyList } from "../../shell/JourneyList";
import { isTyping } from "../../shell/keys";
import { SortChoice } from "../../shell/SortChoice";
import { Empty, Loading, Trouble } from "../../shell/states";
import { JourneyPage } from "./JourneyPage";
import { Narrow, wantedParts } from "./Narrow";

type Around = { before?: JourneySummary; after?: JourneySummary };

export function JourneysView({ app }: { app: AppSummary }) {
  const scope = useOpenedScope();
  const [address, change] = useAddress();
  const list = listQuery(address);
  const total = useQuery(journeysPage(app.key, scope, list, 0));
  const firstKey = total.data?.journeys[0]?.key ?? null;
  const key = address.get("journey") ?? firstKey;
  const journey = useJourney(app.key, key);
  const around = useRef<Around>({});
  const onNeighbours = useCallback((found: Around) => {
    around.current = found;
  }, []);
  const choose = useCallback(
    (chosen?: JourneySummary) => chosen && change({ journey: chosen.key, step: null }),
    [change],
  );

  useEffect(() => {
    function onKey(event: KeyboardEvent) {
      if (isTyping(event)) {
        return;
      }
      if (event.key === "ArrowDown") {
        choose(around.current.after);
      } else if (event.key === "ArrowUp") {
        choose(around.current.before);
      } else {
        return;
      }
      event.preventDefault();
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [choose]);

  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then each session in it can be walked here, step by step.
      </Empty>
    );
  }
  return (
    <>
      <section className="list-side">
        <Search />
        <Narrow tabs={app.tabs} />
        <div className="px-3 pb-1 small-text soft d-flex gap-2 align-items-baseline">
          <span data-testid="journeys-total">
            {total.data ? count(total.data.total, "journey") : "…"}
          </span>
          <SortChoice sort={list.sort} onSort={(sort) => change({ sort })} />
          <ExportChoice app={app.key} scope={scope} list={list} />
        </div>
        {list.figure && (
          <div className="px-3 pb-2 small-text">
            {figureWords(list.measure ?? "", list.figure)}
            {partWords(scope)}{" "}
            <button
              type="button"
              className="figure-button"
              onClick={() => change({ measure: null, figure: null })}
            >
              show all
            </button>
          </div>
        )}
        {total.isError && <Trouble problem={total.error} />}
        {total.data && (
          <JourneyList
            app={app.key}
            scope={scope}
            list={list}
            total={total.data.total}
            chosen={key}
            onChoose={choose}
            onNeighbours={onNeighbours}
          />
        )}
      </section>
      {total.data?.total === 0 && !address.get("journey") ? (
        <Empty title={list.search ? `No journey has “${list.search}”.` : "No journey fits."}>
          {list.search
            ? "The search looks at users, sessions and screens."
            : "Ask for less on the left, or choose other dates at the top."}
        </Empty>
      ) : journey.isError ? (
        <Trouble problem={journey.error} />
      ) : journey.data ? (
        <JourneyPage app={app.key} journey={journey.data} stale={journey.isPlaceholderData} />
      ) : (
        <Loading what="Reading" />
      )}
    </>
  );
}

const FORMS = { csv: "CSV", jsonl: "JSON Lines", parquet: "Parquet", xes: "XES" };
const EXPORTS = { steps: "their steps, as", rows: "the log's rows, as" };

/** Every step, or every row, of the journeys listed, as a file. */
function ExportChoice({ app, scope, list }: { app: string; scope: Scope; list: ListQuery }) {
  const { sort: _, ...asked } = { ...scope, ...list };
  const query = new URLSearchParams(Object.entries(asked).map(([k, v]) => [k, String(v)]));
  return (
    <Dropdown className="ms-auto">
      <Dropdown.Toggle as="button" className="quiet small-text soft px-0" id="export-choice">
        export
      </Dropdown.Toggle>
      <Dropdown.Menu align="end">
        {Object.entries(EXPORTS).map(([what, words]) => (
          <Fragment key={what}>
            <Dropdown.Header>{words}</Dropdown.Header>
            {Object.entries(FORMS).map(([form, word]) => (
              <Dropdown.Item
                key={form}
                href={`/api/apps/${encodeURIComponent(app)}/${what}.${form}?${query}`}
                download
              >
                {word}
              </Dropdown.Item>
            ))}
          </Fragment>
        ))}
      </Dropdown.Menu>
    </Dropdown>
  );
}

function listQuery(address: URLSearchParams): ListQuery {
  const part = (key: string) => address.get(key) || undefined;
  const figure = part("measure") && part("figure");
  return {
    sort: (part("sort") ?? "newest") as Sort,
    ...(part("search") && { search: part("search") }),
    ...wantedParts(address),
    ...(figure && { measure: part("measure"), figure }),
  };
}

const TYPING = 250;

function Search() {
  const [address, change] = useAddress();
  const asked = address.get("search") ?? "";
  const [text, setText] = useState(asked);
  const field = useRef<HTMLInputElement>(null);

  useEffect(() => {
    if (text.trim() === asked) {
      return;
    }
    const timer = setTimeout(
      () => change({ search: text.trim(), journey: null, step: null }),
      TYPING,
    );
    return () => clearTimeout(timer);
  }, [text, asked, change]);

  return (
    <div className="p-2">
      <Form.Control
        ref={field}
        size="sm"
        type="search"
        placeholder="user, session or screen"
        aria-label="Search journeys"
        maxLength={300}
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && field.current?.blur()}
      />
    </div>
  );
}
