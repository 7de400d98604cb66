import { useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import { useChangeFinding, useForgetFinding } from "../../api/queries";
import { sideWords } from "../../charts/TrendLine";
import { TwoBars } from "../../charts/TwoBars";
import { count, date } from "../../format";
import { ForRole } from "../../shell/role";
import { VIEWS } from "../../shell/views";

type Kept = Schemas["KeptFindingView"];

interface Props {
  app: string;
  rows: Kept[];
  chosen: string | null;
  onOpen: (one: Kept) => void;
}

/** What was kept, in the order of the report, each with its note; or what was dismissed. */
export function KeptList({ app, rows, chosen, onOpen }: Props) {
  const change = useChangeFinding(app);
  const forget = useForgetFinding(app);
  if (!rows.length) {
    return (
      <p className="soft">
        Nothing here yet. Keep a finding, or any figure whose journeys are open, by k.
      </p>
    );
  }
  return (
    <ol className="findings" data-testid="kept-findings">
      {rows.map((one, i) => (
        <li key={one.id} className={one.figure === chosen ? "chosen" : ""}>
          <div className="d-flex gap-3 align-items-start">
            <div className="flex-grow-1 min-0">
              <button type="button" className="finding-words" onClick={() => onOpen(one)}>
                {one.sentence}
              </button>
              <Values one={one} />
              <Note one={one} onNote={(note) => change.mutate({ number: one.id, note })} />
              <div className="d-flex flex-wrap column-gap-3 small-text">
                <span className="soft">
                  {VIEWS[one.measure]?.word ?? one.measure} · kept {date(+new Date(one.made_at))}
                  {one.author && ` by ${one.author}`}
                </span>
                <ForRole least="work">
                  {!one.dismissed && i > 0 && (
                    <button
                      type="button"
                      className="figure-button"
                      aria-label={`Move “${one.sentence}” up`}
                      onClick={() => change.mutate({ number: one.id, place: i - 1 })}
                    >
                      ↑ up
                    </button>
                  )}
                  {!one.dismissed && i < rows.length - 1 && (
                    <button
                      type="button"
                      className="figure-button"
                      aria-label={`Move “${one.sentence}” down`}
                      onClick={() => change.mutate({ number: one.id, place: i + 1 })}
                    >
                      ↓ down
                    </button>
                  )}
                  {one.dismissed && (
                    <button
                      type="button"
                      className="figure-button"
                      onClick={() => change.mutate({ number: one.id, dismissed: false })}
                    >
                      keep it after all
                    </button>
                  )}
                  <button
                    type="button"
                    className="figure-button"
                    onClick={() => forget.mutate(one.id)}
                  >
                    {one.dismissed ? "no longer dismissed" : "take away"}
                  </button>
                </ForRole>
              </div>
            </div>
            {one.beside && (
              <TwoBars
                own={one.now ?? one.was}
                beside={one.beside}
                names={[one.where || "here", one.beside_name]}
                timed={one.timed}
              />
            )}
          </div>
        </li>
      ))}
    </ol>
  );
}

/** Its value; both of them, where data or map have changed since. */
function Values({ one }: { one: Kept }) {
  const own = one.now ?? one.was;
  return (
    <div className="small-text">
      <span className="fw-semibold">{sideWords(own, one.timed)}</span>{" "}
      <span className="soft">
        {count(own.count)} of {count(own.of)}, {count(own.users, "user")}
      </span>
      {one.changed && (
        <span className="text-rust" data-testid="changed">
          {" "}
          · was {sideWords(one.was, one.timed)} when it was kept
          {one.now === null && "; there is nothing to count any more"}
        </span>
      )}
    </div>
  );
}

function Note({ one, onNote }: { one: Kept; onNote: (note: string) => void }) {
  const [note, setNote] = useState(one.note);
  useEffect(() => setNote(one.note), [one.note]);
  return (
    <textarea
      className="form-control form-control-sm my-1"
      rows={Math.min(Math.max(note.split("\n").length, 1), 6)}
      aria-label={`${one.dismissed ? "Why it was dismissed" : "Note"}: ${one.sentence}`}
      placeholder={one.dismissed ? "why it was dismissed" : "a note for the report"}
      maxLength={20_000}
      value={note}
      onChange={(event) => setNote(event.target.value)}
      onBlur={() => note !== one.note && onNote(note)}
    />
  );
}
