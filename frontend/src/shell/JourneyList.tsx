import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from "react";
import { Spinner } from "react-bootstrap";
import type { JourneySummary } from "../api/client";
import { journeysPage, type ListQuery, PAGE, type Sort } from "../api/queries";
import { MiniProfile } from "../charts/MiniProfile";
import { count, date, duration, EXIT_WORDS, short, time, words } from "../format";
import type { Scope } from "../scope/scope";
import { Trouble } from "./states";

interface Props {
  app: string;
  scope: Scope;
  list: ListQuery;
  total: number;
  chosen: string | null;
  onChoose: (journey: JourneySummary) => void;
  /** The journeys around the chosen one are found here by key, for the next and the last. */
  onNeighbours?: (around: { before?: JourneySummary; after?: JourneySummary }) => void;
  narrow?: boolean;
}

const ROW = 48;

/**
 * A list of any length: only what is on the screen is drawn, and read from the server.
 *
 * By keyboard it is one stop; within it, arrows, Home and End go from journey to journey.
 */
export function JourneyList(props: Props) {
  const { app, scope, list, total, chosen, onChoose, onNeighbours, narrow } = props;
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 6,
  });
  const shown = rows.getVirtualItems();
  const pages = useMemo(() => {
    const first = Math.floor((shown[0]?.index ?? 0) / PAGE);
    const last = Math.floor((shown.at(-1)?.index ?? 0) / PAGE);
    return Array.from({ length: last - first + 1 }, (_, i) => first + i);
  }, [shown]);
  const answers = useQueries({
    queries: pages.map((page) => journeysPage(app, scope, list, page)),
  });
  const loaded = new Map<number, JourneySummary>();
  for (const [i, answer] of answers.entries()) {
    for (const [j, journey] of (answer.data?.journeys ?? []).entries()) {
      loaded.set((pages[i] ?? 0) * PAGE + j, journey);
    }
  }
  const position = [...loaded].find(([, journey]) => journey.key === chosen)?.[0];
  const before = position === undefined ? undefined : loaded.get(position - 1);
  const after = position === undefined ? loaded.get(0) : loaded.get(position + 1);

  // biome-ignore lint/correctness/useExhaustiveDependencies: the keys stand for the journeys
  useEffect(() => {
    onNeighbours?.({ before, after });
  }, [before?.key, after?.key, onNeighbours]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: scroll only when the choice moves
  useEffect(() => {
    if (position !== undefined) {
      rows.scrollToIndex(position, { align: "auto" });
    }
  }, [position, chosen]);

  const [at, setAt] = useState(0);
  const walking = useRef(false);
  const indices = shown.map((row) => row.index);
  const current = position ?? at;
  const stop = indices.includes(current) ? current : (indices[0] ?? 0);
  const walk = (event: KeyboardEvent) => {
    const to = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: total - 1 }[event.key];
    if (chosen === null && to !== undefined) {
      event.preventDefault();
      const next = Math.min(Math.max(to, 0), total - 1);
      walking.current = true;
      setAt(next);
      rows.scrollToIndex(next, { align: "auto" });
    }
  };
  // The row that is walked to may be drawn only after the list has scrolled to it.
  useEffect(() => {
    const list = box.current;
    const row = list?.querySelector<HTMLElement>(`[data-index="${current}"]`);
    if (row && (walking.current || (chosen !== null && list?.contains(document.activeElement)))) {
      walking.current = false;
      row.focus({ preventScroll: true });
    }
  });

  const broken = answers.find((answer) => answer.error)?.error;
  if (broken) {
    return <Trouble problem={broken} />;
  }
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: keys pressed on the rows come here
    <div className="journeys-list" ref={box} onKeyDown={walk}>
      <div style={{ height: rows.getTotalSize() }}>
        {shown.map((row) => {
          const journey = loaded.get(row.index);
          const place = { top: row.start, height: ROW };
          return journey ? (
            <button
              type="button"
              key={row.key}
              className={`journey ${journey.key === chosen ? "chosen" : ""}`}
              aria-current={journey.key === chosen}
              data-index={row.index}
              tabIndex={row.index === stop ? 0 : -1}
              onFocus={() => setAt(row.index)}
              style={place}
              onClick={() => onChoose(journey)}
            >
              <JourneyWords journey={journey} sort={list.sort} />
              <MiniProfile
                depths={journey.depths}
                grounds={journey.grounds}
                width={narrow ? 84 : 112}
                height={30}
              />
            </button>
          ) : (
            <div key={row.key} className="journey soft" style={place}>
              <Spinner size="sm" />
            </div>
          );
        })}
      </div>
    </div>
  );
}

type Listed = JourneySummary & { sorted_by?: number | null };

/** What lists are sorted by beyond what each journey tells anyway. */
const SORTED_BY: Partial<Record<Sort, (n: number) => string>> = {
  slowest_start: (ms) => `start ${duration(ms)}`,
  most_turns: (n) => count(n, "turn"),
  most_tries: (n) => count(n, "failed try", "failed tries"),
  longest_stay: (ms) => `stay ${duration(ms)}`,
};

/** Who, when, how long, and what is worth a flag. */
export function JourneyWords({ journey, sort }: { journey: Listed; sort?: Sort }) {
  const by = journey.sorted_by ?? null;
  const marks = journey.marks.filter((mark) => mark !== "bounce");
  const title = `${journey.user} · ${EXIT_WORDS[journey.exit]}${
    marks.length ? ` · ${marks.map(words).join(", ")}` : ""
  }`;
  return (
    <span title={title}>
      <span className="d-block clip">
        <span className="fw-semibold">{short(journey.user, 40)}</span>{" "}
        <span className="soft small-text">
          {date(journey.start)} {time(journey.start)}
        </span>
      </span>
      <span className="d-block clip small-text soft">
        {by !== null && sort && <span className="fw-semibold">{SORTED_BY[sort]?.(by)} · </span>}
        {count(journey.steps, "step")} · {duration(journey.duration)}
        {marks.length > 0 && (
          <>
            {" · "}
            <span className="mark-word">{marks.map(words).join(", ")}</span>
          </>
        )}
      </span>
    </span>
  );
}
