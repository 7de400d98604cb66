import { useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { api, dataOf, type FieldName, type Mapping, type MappingPreview } from "../../api/client";
import { useChange, useMappingPreview } from "../../api/queries";
import { count, short } from "../../format";
import { isTyping } from "../../shell/keys";
import { Loading, Trouble } from "../../shell/states";
import { EVENT_MEANINGS, FIELD_MEANINGS } from "./fields";

type Times = Required<NonNullable<Mapping["times"]>>;

const ALWAYS: FieldName[] = ["time", "user", "session", "event", "screen"];

/** Which column is which: proposed, seen on the first rows, and corrected by choosing. */
export function MappingPanel({ job }: { job: number }) {
  const [chosen, setChosen] = useState<Mapping[]>([]);
  const [more, setMore] = useState<FieldName[]>([]);
  const found = useMappingPreview(job, chosen.at(-1) ?? null);
  const path = { params: { path: { job_id: job } } };
  const take = useChange((mapping: Mapping) =>
    dataOf(api.PUT("/api/jobs/{job_id}/mapping", { ...path, body: mapping })),
  );
  const undo = () => setChosen((old) => old.slice(0, -1));

  useEffect(() => {
    function onKey(event: KeyboardEvent) {
      if (event.key === "z" && (event.ctrlKey || event.metaKey) && !isTyping(event)) {
        event.preventDefault();
        setChosen((old) => old.slice(0, -1));
      }
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);

  if (found.isPending) {
    return <Loading what="Reading the first rows" />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const preview = found.data;
  const mapping = chosen.at(-1) ?? preview.mapping;
  const change = (next: Partial<Mapping>) =>
    setChosen((old) => [...old, { ...mapping, ...next } as Mapping]);
  const setField = (field: FieldName, columns: string[]) =>
    change({ fields: { ...mapping.fields, [field]: columns.filter(Boolean) } });
  const setConstant = (field: FieldName, value: string | null) => {
    const { [field]: _, ...constants } = mapping.constants ?? {};
    const { [field]: __, ...columns } = mapping.fields;
    change({
      fields: columns as Mapping["fields"],
      constants: value === null ? constants : { ...constants, [field]: value },
    });
  };
  const times: Times = mapping.times ?? { form: "recognised", zone: "UTC" };
  const mapped = Object.keys({ ...mapping.fields, ...mapping.constants }) as FieldName[];
  const fields = [...new Set([...ALWAYS, ...mapped, ...more])];
  return (
    <section className="mt-2" data-testid="mapping">
      <p className="mb-2">
        {sentence(preview)} <span className="soft">{short(preview.file, 60)}</span>
      </p>
      <div className="overflow-auto mapping-table">
        <table className="table table-sm plain mb-0">
          <thead>
            <tr>
              {fields.map((field) => (
                <th key={field} title={FIELD_MEANINGS[field]}>
                  <span className={preview.missing.includes(field) ? "mark-word" : ""}>
                    {field}
                  </span>
                  {mapping.constants?.[field] === undefined ? (
                    <ColumnChoice
                      field={field}
                      chosen={mapping.fields[field] ?? []}
                      columns={preview.columns}
                      onChoose={(columns) => setField(field, columns)}
                      onConstant={() => setConstant(field, "")}
                    />
                  ) : (
                    <Constant
                      field={field}
                      value={mapping.constants[field]}
                      onChange={(value) => setConstant(field, value)}
                    />
                  )}
                  {field === "time" && (
                    <TimesChoice times={times} onChange={(next) => change({ times: next })} />
                  )}
                  <span className="reason">{reasonFor(field, preview, mapping)}</span>
                </th>
              ))}
              <th>
                <FieldChoice shown={fields} onAdd={(field) => setMore([...more, field])} />
              </th>
            </tr>
          </thead>
          <tbody>
            {preview.read.map((row, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other name here
              <tr key={i}>
                {fields.map((field) => (
                  <td key={field}>
                    <Cell read={row[field]} raw={rawOf(preview, mapping, field, i)} />
                  </td>
                ))}
                <td className="mark-word small-text">{row.problem}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {preview.words.length > 0 && (
        <EventWords
          words={preview.words}
          events={mapping.events ?? {}}
          onChange={(events) => change({ events })}
        />
      )}
      <div className="d-flex gap-2 mt-2 align-items-center">
        <Button
          size="sm"
          disabled={preview.missing.length > 0 || take.isPending}
          onClick={() => take.mutate(mapping)}
        >
          Read it so
        </Button>
        <button type="button" className="quiet" disabled={!chosen.length} onClick={undo}>
          undo
        </button>
        <span className="small-text soft">
          Other columns are kept as properties. The next file with these columns is read alike.
        </span>
      </div>
      {take.isError && <Trouble problem={take.error} />}
    </section>
  );
}

function sentence(preview: MappingPreview): string {
  const bad = preview.read.filter((row) => row.problem).length;
  if (preview.missing.length) {
    const lacking = preview.missing.map((field) =>
      field === "screen" ? "the event or the screen" : `the ${field}`,
    );
    return `Say which column holds ${lacking.join(" and ")}: without it no row can be read.`;
  }
  const first = `The first ${count(preview.read.length, "row")} as they will be read`;
  return bad ? `${first}; ${count(bad)} of them cannot be.` : `${first}. Is that right?`;
}

function rawOf(preview: MappingPreview, mapping: Mapping, field: FieldName, row: number): string {
  const columns = mapping.fields[field] ?? [];
  return columns.map((column) => preview.raw[row]?.[column] ?? "").join(" · ");
}

/** The value as it will be read; under it, where it is another, the value as it came. */
function Cell({ read, raw }: { read?: string | null; raw: string }) {
  return (
    <>
      <div className="clip">{short(read ?? "", 40)}</div>
      {raw && raw !== read && <div className="reason clip">{short(raw, 40)}</div>}
    </>
  );
}

function reasonFor(field: FieldName, preview: MappingPreview, mapping: Mapping): string {
  const columns = mapping.fields[field] ?? [];
  if (mapping.constants?.[field] !== undefined) {
    return "not from the file";
  }
  if (!columns.length) {
    return preview.missing.includes(field) ? "needed" : "not in the file";
  }
  const same = JSON.stringify(columns) === JSON.stringify(preview.mapping.fields[field]);
  return same && preview.reasons[field]
    ? (preview.reasons[field] ?? "chosen by you")
    : "chosen by you";
}

interface ColumnProps {
  field: FieldName;
  chosen: string[];
  columns: string[];
  onChoose: (columns: string[]) => void;
  onConstant: () => void;
}

const CONSTANT = "\0constant";

/** A screen's name can be made of two columns: a screen and its inner view. */
function ColumnChoice({ field, chosen, columns, onChoose, onConstant }: ColumnProps) {
  const places = field === "screen" && chosen.length ? 2 : 1;
  return Array.from({ length: places }, (_, place) => (
    <Form.Select
      // biome-ignore lint/suspicious/noArrayIndexKey: the places of a composed name
      key={place}
      size="sm"
      aria-label={place ? `Second column for ${field}` : `Column for ${field}`}
      value={chosen[place] ?? ""}
      onChange={(event) => {
        if (event.target.value === CONSTANT) {
          onConstant();
          return;
        }
        const next = [...chosen];
        next[place] = event.target.value;
        onChoose(next);
      }}
    >
      <option value="">{place ? "and no other" : "—"}</option>
      {!place && field !== "time" && <option value={CONSTANT}>the same in every row…</option>}
      {columns.map((column) => (
        <option key={column} value={column}>
          {short(column, 60)}
        </option>
      ))}
    </Form.Select>
  ));
}

interface ConstantProps {
  field: FieldName;
  value: string;
  onChange: (value: string | null) => void;
}

/** A field that no column holds, but that is the same in every row. */
function Constant({ field, value, onChange }: ConstantProps) {
  return (
    <div className="d-flex">
      <Form.Control
        size="sm"
        autoFocus={!value}
        aria-label={`Value of ${field} in every row`}
        placeholder="in every row"
        defaultValue={value}
        onBlur={(event) => event.target.value !== value && onChange(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      />
      <button
        type="button"
        className="quiet"
        aria-label={`Take a column for ${field}`}
        onClick={() => onChange(null)}
      >
        <i className="bi bi-x-lg" />
      </button>
    </div>
  );
}

interface TimesProps {
  times: Times;
  onChange: (times: Times) => void;
}

const FORM_WORDS: Record<Times["form"], string> = {
  recognised: "form recognised",
  seconds: "Unix seconds",
  milliseconds: "Unix milliseconds",
  microseconds: "Unix microseconds",
  nanoseconds: "Unix nanoseconds",
  "day first": "day before month",
  "month first": "month before day",
};
const ZONES = ["UTC", ...Intl.supportedValuesOf("timeZone").filter((zone) => zone !== "UTC")];

/** In which form times are, and in which zone those that do not say one. */
function TimesChoice({ times, onChange }: TimesProps) {
  return (
    <>
      <Form.Select
        size="sm"
        aria-label="Form of the times"
        value={times.form}
        onChange={(event) => onChange({ ...times, form: event.target.value as Times["form"] })}
      >
        {Object.entries(FORM_WORDS).map(([form, words]) => (
          <option key={form} value={form}>
            {words}
          </option>
        ))}
      </Form.Select>
      <Form.Select
        size="sm"
        aria-label="Zone of times that name none"
        value={times.zone}
        onChange={(event) => onChange({ ...times, zone: event.target.value })}
      >
        {ZONES.map((zone) => (
          <option key={zone} value={zone}>
            else {zone.replaceAll("_", " ")}
          </option>
        ))}
      </Form.Select>
    </>
  );
}

function FieldChoice({ shown, onAdd }: { shown: FieldName[]; onAdd: (field: FieldName) => void }) {
  const rest = (Object.keys(FIELD_MEANINGS) as FieldName[]).filter((one) => !shown.includes(one));
  return (
    <Form.Select
      size="sm"
      aria-label="Another field"
      value=""
      onChange={(event) => onAdd(event.target.value as FieldName)}
    >
      <option value="">another field…</option>
      {rest.map((field) => (
        <option key={field} value={field}>
          {field}: {FIELD_MEANINGS[field]}
        </option>
      ))}
    </Form.Select>
  );
}

interface WordProps {
  words: string[];
  events: Record<string, string>;
  onChange: (events: Record<string, string>) => void;
}

function EventWords({ words, events, onChange }: WordProps) {
  return (
    <div className="mt-2">
      <h2>What its words for events mean</h2>
      <div className="event-words">
        {words.map((word, i) => (
          <label key={word} className="small-text" htmlFor={`word-${i}`}>
            <span className="clip" title={word}>
              {word}
            </span>
            <Form.Select
              id={`word-${i}`}
              size="sm"
              value={events[word] ?? (word in EVENT_MEANINGS ? word : "")}
              onChange={(event) => onChange({ ...events, [word]: event.target.value || word })}
            >
              <option value="">a mark of its own</option>
              {Object.entries(EVENT_MEANINGS).map(([event, meaning]) => (
                <option key={event} value={event}>
                  {meaning}
                </option>
              ))}
            </Form.Select>
          </label>
        ))}
      </div>
    </div>
  );
}
