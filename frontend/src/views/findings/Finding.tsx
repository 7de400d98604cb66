import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { count } from "../../format";
import { type Scope, scopeSearch, useAddress } from "../../scope/scope";
import { ForRole } from "../../shell/role";
import { VIEWS } from "../../shell/views";

type Kind = Schemas["Finding"]["kind"];

/** What a finding is held against, by its kind. */
export const BESIDE: Record<Kind, string> = {
  group: "elsewhere",
  norm: "let pass",
  like: "the others",
  expected: "expected",
  change: "before",
};

interface Props {
  sentence: string;
  measure: string;
  figure: string;
  touched: number;
  also: string[];
  scope: Scope;
  chosen: boolean;
  kept: boolean;
  picture: ReactNode;
  onOpen: () => void;
  onKeep: () => void;
  onDismiss: (reason: string) => void;
}

/** One thing that stands out: in a sentence, in small, and with its journeys. */
export function Finding(props: Props) {
  const { sentence, measure, figure, touched, also, scope, chosen, kept, picture } = props;
  const [address] = useAddress();
  const [more, setMore] = useState(false);
  const [reason, setReason] = useState<string | null>(null);
  const view = VIEWS[measure];
  const search = new URLSearchParams(scopeSearch(address, { figure, of: measure }));
  if (scope.segment) {
    search.set("segment", scope.segment);
  }
  return (
    <li className={chosen ? "chosen" : ""}>
      <div className="d-flex gap-3 align-items-start">
        <div className="flex-grow-1 min-0">
          <button
            type="button"
            className="finding-words"
            aria-pressed={chosen}
            onClick={props.onOpen}
          >
            {sentence}
          </button>
          <div className="d-flex flex-wrap column-gap-3 small-text">
            <span className="soft">{count(Math.max(Math.round(touched), 1), "user")} touched</span>
            {view && (
              <Link to={{ pathname: view.path, search: `?${search}` }}>see in {view.word}</Link>
            )}
            {also.length > 0 && (
              <button
                type="button"
                className="figure-button"
                aria-expanded={more}
                onClick={() => setMore(!more)}
              >
                {count(also.length)} more of the same journeys
              </button>
            )}
            <ForRole least="work">
              <button
                type="button"
                className="figure-button"
                disabled={kept}
                onClick={props.onKeep}
              >
                {kept ? "kept" : "keep"}
              </button>
              <button
                type="button"
                className="figure-button"
                onClick={() => setReason(reason === null ? "" : null)}
              >
                dismiss
              </button>
            </ForRole>
          </div>
          {reason !== null && (
            <form
              className="d-flex gap-2 mt-1"
              onSubmit={(event) => {
                event.preventDefault();
                props.onDismiss(reason);
              }}
            >
              <input
                className="form-control form-control-sm"
                aria-label="Why it is dismissed"
                placeholder="why? it is found again under “dismissed”"
                maxLength={2000}
                value={reason}
                // biome-ignore lint/a11y/noAutofocus: it was just asked for
                autoFocus
                onChange={(event) => setReason(event.target.value)}
              />
              <button type="submit" className="btn btn-sm btn-outline-secondary">
                Dismiss
              </button>
            </form>
          )}
          {more && (
            <ul className="small-text soft mb-0">
              {also.map((one) => (
                <li key={one}>{one}</li>
              ))}
            </ul>
          )}
        </div>
        {picture}
      </div>
    </li>
  );
}
