import { Form } from "react-bootstrap";
import type { Mapping } from "../../api/client";
import { count, short } from "../../format";

interface Props {
  columns: string[];
  mapping: Mapping;
  onChange: (next: Partial<Mapping>) => void;
}

/** What becomes of columns that are no field: kept as properties, as hashes, or not at all. */
export function MappingColumns({ columns, mapping, onChange }: Props) {
  const fields = new Set(Object.values(mapping.fields).flat());
  const leftOut = mapping.left_out ?? [];
  const hashed = mapping.hashed ?? [];
  const inField = (name: string) =>
    [...fields].some((field) => name === field || name.startsWith(`${field}.`));
  const shown = columns.filter(
    (name) => !inField(name) || hashed.includes(name) || leftOut.includes(name),
  );
  const choose = (name: string, fate: string) =>
    onChange({
      left_out: [...leftOut.filter((one) => one !== name), ...(fate === "out" ? [name] : [])],
      hashed: [...hashed.filter((one) => one !== name), ...(fate === "hash" ? [name] : [])],
    });
  if (!shown.length) {
    return null;
  }
  const fate = (name: string) =>
    leftOut.includes(name) ? "out" : hashed.includes(name) ? "hash" : "keep";
  return (
    <details className="mt-2" open={leftOut.length + hashed.length > 0}>
      <summary>
        Other columns{" "}
        <span className="soft">
          {count(shown.filter((name) => fate(name) === "keep").length)} kept as properties,{" "}
          {count(hashed.length)} kept as hashes, {count(leftOut.length)} left out
        </span>
      </summary>
      <div className="event-words mt-1">
        {shown.slice(0, MOST_COLUMNS).map((name) => (
          <div key={name} className="small-text word-line">
            <span className="clip" title={name}>
              {short(name, 60)}
            </span>
            <Form.Select
              size="sm"
              aria-label={`What becomes of ${name}`}
              value={fate(name)}
              onChange={(event) => choose(name, event.target.value)}
            >
              <option value="keep">kept</option>
              <option value="hash">kept as a hash</option>
              <option value="out">left out</option>
            </Form.Select>
          </div>
        ))}
      </div>
    </details>
  );
}

const MOST_COLUMNS = 200;
