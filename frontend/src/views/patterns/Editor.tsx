import { type KeyboardEvent, useId, useRef, useState } from "react";
import { usePatternReading, useVocabulary } from "../../api/queries";
import { type Proposal, proposals } from "./proposals";

interface Props {
  app: string;
  pattern: string;
  onWrite: (pattern: string) => void;
}

/** A pattern as it is written: what it means is said below, or where it is wrong. */
export function Editor({ app, pattern, onWrite }: Props) {
  const [text, setText] = useState(pattern);
  const [caret, setCaret] = useState(-1);
  const [at, setAt] = useState(-1);
  const box = useRef<HTMLTextAreaElement>(null);
  const list = useId();
  const reading = usePatternReading(app, text);
  const vocabulary = useVocabulary(app).data;
  const found = caret < 0 ? [] : proposals(text, caret, reading.data?.keys ?? {}, vocabulary);
  // As long as there are ways to go on, it is not finished rather than wrong.
  const fault = text.trim() && !found.length ? reading.data?.fault : null;

  const take = (one: Proposal) => {
    const next = `${text.slice(0, one.from)}${one.text}${text.slice(caret)}`;
    const place = one.from + one.text.length;
    setText(next);
    setAt(-1);
    // The field must hold the new text before its caret can stand in it.
    requestAnimationFrame(() => {
      box.current?.focus();
      box.current?.setSelectionRange(place, place);
      setCaret(place);
    });
  };
  const onKey = (event: KeyboardEvent) => {
    const one = found[at];
    if (event.key === "ArrowDown" && found.length) {
      setAt((at + 1) % found.length);
    } else if (event.key === "ArrowUp" && at >= 0) {
      setAt(at - 1);
    } else if ((event.key === "Enter" || event.key === "Tab") && one) {
      take(one);
    } else if (event.key === "Enter" && !event.shiftKey) {
      onWrite(text);
    } else if (event.key === "Escape" && found.length) {
      setCaret(-1);
      setAt(-1);
    } else {
      return;
    }
    event.preventDefault();
    event.stopPropagation();
  };
  return (
    <div className="pattern-editor mb-2">
      <div className="d-flex gap-2">
        <textarea
          ref={box}
          className={`form-control form-control-sm ${fault ? "is-invalid" : ""}`}
          rows={Math.min(Math.max(text.split("\n").length, Math.ceil(text.length / 90), 1), 6)}
          spellCheck={false}
          aria-label="Pattern"
          aria-autocomplete="list"
          aria-haspopup="listbox"
          aria-controls={list}
          aria-activedescendant={at >= 0 ? `${list}-${at}` : undefined}
          aria-invalid={Boolean(fault)}
          aria-describedby={`${list}-said`}
          placeholder="SailingsBoard .. SignIn[dwell>10s] … a screen, a test in brackets, two dots for any steps"
          value={text}
          onChange={(event) => {
            setText(event.target.value);
            setCaret(event.target.selectionStart);
            setAt(-1);
          }}
          onKeyDown={onKey}
          onBlur={() => setCaret(-1)}
        />
        <button
          type="button"
          className="btn btn-sm btn-primary"
          disabled={!text.trim() || Boolean(reading.data?.fault)}
          onClick={() => onWrite(text)}
        >
          Find
        </button>
      </div>
      <div id={`${list}-said`} className="small-text" data-testid="pattern-said">
        {fault ? (
          <>
            <code className="d-block">
              {text.slice(0, fault.start)}
              <mark>{text.slice(fault.start, fault.end) || "⌃"}</mark>
              {text.slice(fault.end)}
            </code>
            <span className="loss">{fault.message}.</span> {fault.mend}
          </>
        ) : (
          text.trim() && !found.length && <span className="soft">{reading.data?.words}.</span>
        )}
      </div>
      <div className="proposed small-text" role="listbox" id={list} aria-label="Ways to go on">
        {found.map((one, i) => (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the field has the keys
          <span
            key={one.said}
            id={`${list}-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === at}
            className={`proposal ${i === at ? "chosen" : ""}`}
            onMouseDown={(event) => event.preventDefault()}
            onClick={() => take(one)}
          >
            {one.said}
          </span>
        ))}
      </div>
    </div>
  );
}
