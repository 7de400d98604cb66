import { useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { api, dataOf, type FieldName, type Mapping, type MappingPreview } from "../../api/client";
import { useChange, useMappingPreview } from "../../api/queries";
import { count, short } from "../../format";
import { isTyping } from "../../shell/keys";
import { Loading, Trouble } from "../../shell/states";
import { FIELD_MEANINGS } from "./fields";
import { MappingColumns } from "./MappingColumns";
import { MappingComes } from "./MappingComes";
import { MappingWords } from "./MappingWords";

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
      <p className="mb-1">
        {sentence(preview)} <span className="soft">{short(preview.file, 60)}</span>
      </p>
      <MappingComes job={job} mapping={mapping} counts={preview.counts} busy={found.isFetching} />
      <div className="d-flex gap-2 mb-2 align-items-center">
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
        <span className="small-text soft">The next file with these columns is read alike.</span>
        <MappingFile mapping={mapping} onLoad={(loaded) => setChosen((old) => [...old, loaded])} />
      </div>
      <Doubts doubts={preview.doubts} />
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
      <Patterns patterns={mapping.patterns ?? []} onChange={(patterns) => change({ patterns })} />
      <MappingWords words={preview.words} mapping={mapping} onChange={change} />
      <MappingColumns columns={preview.columns} mapping={mapping} onChange={change} />
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
  const source = (field: FieldName) => preview.mapping.fields[field]?.join(" and ");
  const told = (["time", "user", "event", "screen"] as FieldName[])
    .filter(source)
    .map((field) => `the ${field} from “${source(field)}”`);
  const doubts = preview.doubts.length
    ? `; ${count(preview.doubts.length, "thing")} to check`
    : ". Is that right?";
  const lost = bad ? ` Of the first rows ${count(bad)} cannot be read.` : "";
  return `It will be read with ${told.join(", ")}${doubts}${preview.doubts.length ? "." : ""}${lost}`;
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

const FORM_WORDS: Record<string, string> = {
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
        {!(times.form in FORM_WORDS) && <option value={times.form}>{asWritten(times.form)}</option>}
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

const PARTS: [RegExp, string][] = [
  [/%Y/g, "2026"],
  [/%m/g, "05"],
  [/%d/g, "04"],
  [/%B/g, "May"],
  [/%A/g, "Mon"],
  [/%H/g, "10"],
  [/%I/g, "10"],
  [/%M/g, "02"],
  [/%S/g, "03"],
  [/%\.f/g, ".123"],
  [/%p/g, "AM"],
  [/%:?z/g, "+0200"],
];

/** Formats are shown by what 4 May 2026 looks like in the first of them. */
function asWritten(form: string): string {
  const first = form.split(" | ")[0] ?? form;
  return `like ${PARTS.reduce((text, [part, example]) => text.replace(part, example), first)}`;
}

function Doubts({ doubts }: { doubts: MappingPreview["doubts"] }) {
  if (!doubts.length) {
    return null;
  }
  return (
    <ul className="doubts mb-2" aria-label="What is doubtful">
      {doubts.map((doubt) => (
        <li key={doubt.says}>
          <span className="mark-word">{doubt.about.replace("_", " ")}</span> {doubt.says}
        </li>
      ))}
    </ul>
  );
}

interface PatternProps {
  patterns: string[];
  onChange: (patterns: string[]) => void;
}

/** Screens inside words or addresses: a pattern has a hole where the screen's name stands. */
function Patterns({ patterns, onChange }: PatternProps) {
  const [text, setText] = useState("");
  const add = () => {
    if (text.trim() && !patterns.includes(text.trim())) {
      onChange([...patterns, text.trim()]);
    }
    setText("");
  };
  return (
    <details className="mt-2" open={patterns.length > 0}>
      <summary>
        Screens inside words or addresses <span className="soft">{count(patterns.length)}</span>
      </summary>
      <div className="d-flex flex-wrap gap-1 mt-1 patterns">
        {patterns.slice(0, MOST_SHOWN).map((pattern) => (
          <span key={pattern} className="pattern">
            <code title={pattern}>{short(pattern, 60)}</code>
            <button
              type="button"
              className="quiet"
              aria-label={`Leave out the pattern ${pattern}`}
              onClick={() => onChange(patterns.filter((one) => one !== pattern))}
            >
              <i className="bi bi-x-lg" />
            </button>
          </span>
        ))}
        {patterns.length > MOST_SHOWN && (
          <span className="soft">and {count(patterns.length - MOST_SHOWN)} more</span>
        )}
        <Form.Control
          size="sm"
          className="new-pattern"
          aria-label="Another pattern"
          placeholder="Viewed {screen} Screen"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => event.key === "Enter" && add()}
          onBlur={add}
        />
      </div>
    </details>
  );
}

interface FileProps {
  mapping: Mapping;
  onLoad: (mapping: Mapping) => void;
}

/** The mapping as a document of its own: taken away, or brought in. */
function MappingFile({ mapping, onLoad }: FileProps) {
  const [wrong, setWrong] = useState("");
  const document = JSON.stringify({ mossy_mapping: 1, ...mapping }, null, 2);
  async function load(file: File | undefined) {
    try {
      const { mossy_mapping, ...loaded } = JSON.parse((await file?.text()) ?? "");
      if (mossy_mapping !== 1 || typeof loaded.fields !== "object") {
        throw new Error();
      }
      setWrong("");
      onLoad(loaded as Mapping);
    } catch {
      setWrong("This is no mapping saved from here.");
    }
  }
  return (
    <span className="ms-auto small-text d-inline-flex gap-3 align-items-center">
      {wrong && <span className="mark-word">{wrong}</span>}
      <a
        href={`data:application/json;charset=utf-8,${encodeURIComponent(document)}`}
        download="mapping.json"
      >
        save this mapping
      </a>
      <label className="mapping-file">
        use a saved one
        <input
          type="file"
          accept=".json"
          className="visually-hidden"
          onChange={(event) => void load(event.target.files?.[0])}
        />
      </label>
    </span>
  );
}

const MOST_SHOWN = 24;
