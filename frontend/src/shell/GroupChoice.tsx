import { Form } from "react-bootstrap";
import { type Groups, useVocabulary } from "../api/queries";
import { useAddress } from "../scope/scope";

/** The groups that the address asks for. */
export function useGroups(): Groups {
  const [address] = useAddress();
  const by = address.get("by");
  const [one, other] = [address.get("one"), address.get("other")];
  return {
    ...(by && { by }),
    ...(by && one !== null && other !== null && { one, other }),
  };
}

interface Props {
  app: string;
  groups: Groups;
  /** The values that there are, to choose two of. */
  values: string[];
}

/** Which property the figures are broken down by, and which two of its values are compared. */
export function GroupChoice({ app, groups, values }: Props) {
  const [, change] = useAddress();
  const found = useVocabulary(app);
  const properties = found.data?.properties ?? [];
  const two = groups.one !== undefined;
  const choose = (key: string, value: string) =>
    change({ one: groups.one ?? values[0] ?? null, other: groups.other ?? null, [key]: value });
  return (
    <span className="d-inline-flex flex-wrap gap-2 align-items-baseline small-text">
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="Broken down by"
        value={groups.by ?? ""}
        onChange={(event) =>
          change({ by: event.target.value, one: null, other: null, figure: null })
        }
      >
        <option value="">not broken down</option>
        {properties.map((one) => (
          <option key={one.name} value={one.name}>
            by {one.name}
          </option>
        ))}
      </Form.Select>
      {groups.by && values.length > 1 && !two && (
        <button
          type="button"
          className="figure-button"
          onClick={() => change({ one: values[0] ?? "", other: values[1] ?? "" })}
        >
          compare two
        </button>
      )}
      {two && (
        <>
          {(["one", "other"] as const).map((key) => (
            <Form.Select
              key={key}
              size="sm"
              className="in-row"
              aria-label={key === "one" ? "The first group" : "The second group"}
              value={groups[key] ?? ""}
              onChange={(event) => choose(key, event.target.value)}
            >
              {values.map((value) => (
                <option key={value} value={value}>
                  {value || "not told"}
                </option>
              ))}
            </Form.Select>
          ))}
          <button
            type="button"
            className="figure-button"
            onClick={() => change({ one: null, other: null })}
          >
            stop comparing
          </button>
        </>
      )}
    </span>
  );
}
