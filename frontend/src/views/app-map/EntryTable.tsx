import { useState } from "react";
import { Form } from "react-bootstrap";
import { PlainTable } from "../../shell/PlainTable";
import { ForRole } from "../../shell/role";
import type { Entry } from "./document";

export interface Field {
  key: string;
  label: string;
  /** What may be chosen; a text is written where there is nothing to choose from. */
  choices?: string[];
  /** What the choices are called, where that is not their name. */
  shown?: Record<string, string>;
  /** What to write. */
  hint?: string;
  wide?: boolean;
}

interface Props {
  title: string;
  about: string;
  fields: Field[];
  entries: Entry[];
  /** They are being saved, or are not for whoever looks to change. */
  fixed: boolean;
  onChange: (entries: Entry[]) => void;
}

/** Entries of the map that are written in place, a line each, and a line for one more. */
export function EntryTable({ title, about, fields, entries, fixed, onChange }: Props) {
  const [fresh, setFresh] = useState<Entry>({});
  const needed = fields[0]?.key ?? "";
  const add = () => {
    onChange([...entries, fresh]);
    setFresh({});
  };
  return (
    <section className="mb-3" data-testid={`map-${title.split(" ")[0]?.toLowerCase()}`}>
      <h2 className="mb-0">{title}</h2>
      <p className="soft small-text mb-1">{about}</p>
      <PlainTable className="screens mb-0">
        <thead>
          <tr>
            {fields.map((field) => (
              <th key={field.key}>{field.label}</th>
            ))}
            <th>
              <span className="visually-hidden">changes</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {entries.map((entry, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two entries may be alike
            <tr key={i}>
              {fields.map((field) => (
                <td key={field.key}>
                  <Cell
                    field={field}
                    name={`${field.label} of ${entry[needed]}`}
                    value={entry[field.key] ?? ""}
                    fixed={fixed}
                    onChange={(value) =>
                      onChange(entries.map((e, k) => (k === i ? { ...e, [field.key]: value } : e)))
                    }
                  />
                </td>
              ))}
              <td>
                <ForRole least="work">
                  <button
                    type="button"
                    className="figure-button"
                    disabled={fixed}
                    aria-label={`take away ${entry[needed]}`}
                    onClick={() => onChange(entries.filter((_, k) => k !== i))}
                  >
                    take away
                  </button>
                </ForRole>
              </td>
            </tr>
          ))}
          <ForRole least="work">
            <tr>
              {fields.map((field) => (
                <td key={field.key}>
                  <Cell
                    key={`${field.key} ${entries.length}`}
                    fresh
                    field={field}
                    name={`${field.label} of a new one`}
                    value={fresh[field.key] ?? ""}
                    fixed={fixed}
                    onChange={(value) => setFresh({ ...fresh, [field.key]: value })}
                  />
                </td>
              ))}
              <td>
                <button
                  type="button"
                  className="figure-button"
                  disabled={fixed || !fresh[needed]}
                  onClick={add}
                >
                  add
                </button>
              </td>
            </tr>
          </ForRole>
        </tbody>
      </PlainTable>
    </section>
  );
}

interface CellProps {
  field: Field;
  name: string;
  value: string;
  fixed: boolean;
  /** It is of the line for one more. */
  fresh?: boolean;
  onChange: (value: string) => void;
}

function Cell({ field, name, value, fixed, fresh, onChange }: CellProps) {
  const look = fresh ? "in-row fresh" : "in-row";
  if (field.choices) {
    return (
      <Form.Select
        size="sm"
        className={look}
        aria-label={name}
        value={value}
        disabled={fixed}
        onChange={(event) => onChange(event.target.value)}
      >
        {!field.choices.includes(value) && <option value={value}>{value || "–"}</option>}
        {field.choices.map((choice) => (
          <option key={choice} value={choice}>
            {field.shown?.[choice] ?? (choice || "as for all links")}
          </option>
        ))}
      </Form.Select>
    );
  }
  return (
    <Form.Control
      size="sm"
      className={look}
      style={{ width: field.wide ? "24rem" : "11rem" }}
      aria-label={name}
      placeholder={fresh ? field.hint : undefined}
      defaultValue={value}
      key={value}
      disabled={fixed}
      onBlur={(event) => event.target.value.trim() !== value && onChange(event.target.value.trim())}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
    />
  );
}
