import { Form } from "react-bootstrap";
import type { Mapping, MappingPreview } from "../../api/client";
import { count, short } from "../../format";
import { EVENT_MEANINGS, OUTCOME_MEANINGS, WITH_OUTCOME } from "./fields";

type Word = MappingPreview["words"][number];

interface Props {
  words: Word[];
  mapping: Mapping;
  onChange: (next: Partial<Mapping>) => void;
}

const CUSTOM = "custom";

/** What the file's words mean, those of one meaning together; what means nothing comes first. */
export function MappingWords({ words, mapping, onChange }: Props) {
  const events = words.filter((word) => word.field === "event");
  const outcomes = words.filter((word) => word.field === "outcome");
  return (
    <>
      {events.length > 0 && (
        <section className="mt-2">
          <h2>What its words mean</h2>
          <Groups
            words={events}
            choices={EVENT_CHOICES}
            none="a mark of its own"
            onChoose={(word, meaning) =>
              onChange({ events: { ...mapping.events, [word]: meaning || CUSTOM } })
            }
          />
        </section>
      )}
      {outcomes.length > 0 && (
        <section className="mt-2">
          <h2>How things came out</h2>
          <Groups
            words={outcomes}
            choices={Object.entries(OUTCOME_MEANINGS)}
            none="nothing that counts"
            onChoose={(word, meaning) =>
              onChange({
                outcomes: { ...mapping.outcomes, [word]: meaning } as Mapping["outcomes"],
              })
            }
          />
        </section>
      )}
    </>
  );
}

const EVENT_CHOICES: [string, string][] = [
  ...Object.entries(EVENT_MEANINGS).flatMap(([event, meaning]): [string, string][] =>
    WITH_OUTCOME.includes(event)
      ? [
          [event, `${meaning}, without an outcome`],
          [`${event} attempt`, `${meaning}: tried`],
          [`${event} ok`, `${meaning}: got in`],
          [`${event} failed`, `${meaning}: failed`],
        ]
      : [[event, meaning]],
  ),
  ["leave out", "left out: its rows are not wanted"],
];

interface GroupProps {
  words: Word[];
  choices: [string, string][];
  none: string;
  onChoose: (word: string, meaning: string) => void;
}

function Groups({ words, choices, none, onChoose }: GroupProps) {
  const names = new Map(choices);
  const own = (word: Word) => (names.has(word.meaning) ? word.meaning : "");
  const groups = new Map<string, Word[]>();
  for (const word of words) {
    groups.set(own(word), [...(groups.get(own(word)) ?? []), word]);
  }
  const order = [...groups].sort(
    ([a, first], [b, second]) => Number(a !== "") - Number(b !== "") || rows(second) - rows(first),
  );
  return (
    <div className="word-groups">
      {order.map(([meaning, group]) => (
        <div key={meaning} className="word-group">
          <h3 className={meaning ? "" : "mark-word"}>
            {names.get(meaning) ?? none} <span className="soft">{count(rows(group), "row")}</span>
          </h3>
          {group.slice(0, MOST_WORDS).map((word) => (
            <div key={word.word} className="small-text word-line">
              <span className="clip" title={word.word}>
                {short(word.word, 60)}
              </span>
              <span className="soft number">{count(word.rows)}</span>
              <Form.Select
                size="sm"
                aria-label={`Meaning of ${word.word}`}
                value={meaning}
                onChange={(event) => onChoose(word.word, event.target.value)}
              >
                <option value="">{none}</option>
                {choices.map(([value, text]) => (
                  <option key={value} value={value}>
                    {text}
                  </option>
                ))}
              </Form.Select>
            </div>
          ))}
          {group.length > MOST_WORDS && (
            <span className="soft small-text">
              and {count(group.length - MOST_WORDS)} more that mean the same
            </span>
          )}
        </div>
      ))}
    </div>
  );
}

const MOST_WORDS = 12;

function rows(words: Word[]): number {
  return words.reduce((sum, word) => sum + word.rows, 0);
}
