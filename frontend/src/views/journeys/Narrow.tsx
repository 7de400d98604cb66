import { useState } from "react";
import { Form } from "react-bootstrap";
import type { ListQuery } from "../../api/queries";
import { EXIT_WORDS, words } from "../../format";
import { useAddress } from "../../scope/scope";

const MARKS = [
  "landed_elsewhere",
  "piled_up",
  "ping_pong",
  "tab_mismatch",
  "gate_loop",
  "placeholder",
  "unknown_screen",
  "not_found",
  "back_to_gate",
  "dead_end",
  "stuck",
  "bounce",
];
const MOVES = [
  "push",
  "pop",
  "pop_to",
  "replace",
  "reset",
  "switch_tab",
  "open_modal",
  "close_modal",
  "update",
  "forward",
  "redirect",
  "link",
];
const CHOICES: {
  key: "mark" | "move" | "start" | "exit";
  any: string;
  words: [string, string][];
}[] = [
  { key: "mark", any: "any mark or none", words: MARKS.map((mark) => [mark, words(mark)]) },
  { key: "move", any: "any moves", words: MOVES.map((move) => [move, `with ${words(move)}`]) },
  {
    key: "start",
    any: "any start",
    words: [
      ["cold", "started the app"],
      ["warm", "came back to it"],
      ["link", "came by a link"],
    ],
  },
  {
    key: "exit",
    any: "any end",
    words: Object.entries(EXIT_WORDS).map(([exit, word]) => [exit, word]),
  },
];
const NUMBERS = {
  fewest: "steps, at least",
  most: "steps, at most",
  depth: "deepest stack, at least",
  turns: "turns of a loop, at least",
  tries: "failed tries, at least",
};
const KEYS = [...CHOICES.map((choice) => choice.key), "tab", ...Object.keys(NUMBERS)];

/** What of the address narrows the list of journeys. */
export function wantedParts(address: URLSearchParams): Partial<ListQuery> {
  const given: Record<string, string | number> = {};
  for (const { key, words: known } of CHOICES) {
    const value = address.get(key);
    if (value && known.some(([one]) => one === value)) {
      given[key] = value;
    }
  }
  const tab = address.get("tab");
  if (tab) {
    given.tab = tab;
  }
  for (const key of Object.keys(NUMBERS)) {
    const value = address.get(key);
    if (value && /^\d{1,7}$/.test(value)) {
      given[key] = Number(value);
    }
  }
  return given as Partial<ListQuery>;
}

/** Narrows the list by what happens in them and what figures are made of; all of it stands in the address. */
export function Narrow({ tabs }: { tabs: string[] }) {
  const [address, change] = useAddress();
  const given = Object.keys(wantedParts(address)).length;
  const [open, setOpen] = useState(given > 0);
  const clear = () =>
    change(Object.fromEntries([...KEYS, "journey", "step"].map((k) => [k, null])));
  return (
    <div className="px-3 pb-1 small-text">
      <button
        type="button"
        className="quiet soft px-0"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        <i className={`bi bi-chevron-${open ? "down" : "right"}`} /> narrow down
      </button>
      {given > 0 && (
        <button type="button" className="figure-button ms-2" onClick={clear}>
          all again
        </button>
      )}
      {open && (
        <div className="narrow-choices">
          {CHOICES.map(({ key, any, words: known }) => (
            <Form.Select
              key={key}
              size="sm"
              aria-label={`Narrow by ${key}`}
              value={address.get(key) ?? ""}
              onChange={(event) => change({ [key]: event.target.value, journey: null, step: null })}
            >
              <option value="">{any}</option>
              {known.map(([value, word]) => (
                <option key={value} value={value}>
                  {word}
                </option>
              ))}
            </Form.Select>
          ))}
          <Form.Select
            size="sm"
            aria-label="Narrow by the tab it ended in"
            value={address.get("tab") ?? ""}
            onChange={(event) => change({ tab: event.target.value, journey: null, step: null })}
          >
            <option value="">ended anywhere</option>
            {tabs.map((tab) => (
              <option key={tab} value={tab}>
                ended in {tab}
              </option>
            ))}
          </Form.Select>
          {Object.entries(NUMBERS).map(([key, said]) => (
            <Form.Control
              key={key}
              size="sm"
              type="number"
              min={0}
              placeholder={said}
              aria-label={`${said.charAt(0).toUpperCase()}${said.slice(1)}`}
              value={address.get(key) ?? ""}
              onChange={(event) => change({ [key]: event.target.value, journey: null, step: null })}
            />
          ))}
        </div>
      )}
    </div>
  );
}
