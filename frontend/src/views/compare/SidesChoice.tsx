import { Form } from "react-bootstrap";
import type { AppSummary } from "../../api/client";
import { useKept, useVocabulary } from "../../api/queries";
import { isoDay } from "../../format";
import { useAddress } from "../../scope/scope";
import { OTHERS, type Sides, sideName } from "./sides";

interface Props {
  app: AppSummary;
  sides: Sides | null;
}

/** Which two groups are held against each other. */
export function SidesChoice({ app, sides }: Props) {
  const [, change] = useAddress();
  const properties = useVocabulary(app.key).data?.properties ?? [];
  const segments = useKept(app.key, "segment").data ?? [];
  const kind = kindOf(sides);
  const values = properties.find((one) => one.name === sides?.by)?.values ?? [];
  const groups = sides?.by
    ? values.map(({ name }) => [name, name] as const)
    : segments.map(({ document, name }) => [JSON.stringify(document), name] as const);
  const choose = (next: Sides) => change({ by: null, ...next, figure: null, of: null, side: null });
  const start = (chosen: string) => {
    const property = properties.find((one) => `by ${one.name}` === chosen);
    if (property) {
      choose(firstTwo(property));
    } else if (chosen === "periods") {
      choose(halves(app));
    } else if (chosen === "segments" && segments[0]) {
      choose({ one: JSON.stringify(segments[0].document), other: "" });
    }
  };
  return (
    <div className="d-flex flex-wrap gap-2 align-items-baseline mb-2 small-text">
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="What the two groups are"
        value={kind}
        onChange={(event) => start(event.target.value)}
      >
        {kind === "" && <option value="">choose two groups …</option>}
        {properties
          .filter((one) => one.values.length > 1)
          .map((one) => (
            <option key={one.name} value={`by ${one.name}`}>
              two by {one.name}
            </option>
          ))}
        <option value="periods">two periods</option>
        {segments.length > 0 && <option value="segments">kept segments</option>}
        {kind === "figure" && <option value="figure">the journeys of a figure</option>}
      </Form.Select>
      {sides &&
        kind === "periods" &&
        (["one", "other"] as const).map((side) => (
          <Period
            key={side}
            label={side === "one" ? "first" : "second"}
            value={sides[side]}
            onChange={(value) => choose({ ...sides, [side]: value })}
          />
        ))}
      {sides &&
        (sides.by || kind === "segments") &&
        (["one", "other"] as const).map((side) => (
          <Form.Select
            key={side}
            size="sm"
            className="in-row"
            aria-label={side === "one" ? "The first group" : "The second group"}
            value={sides[side]}
            onChange={(event) => choose({ ...sides, [side]: event.target.value })}
          >
            {side === "other" && <option value="">{OTHERS}</option>}
            {groups.map(([value, name]) => (
              <option key={value} value={value}>
                {name}
              </option>
            ))}
          </Form.Select>
        ))}
      {sides && kind === "figure" && (
        <span>
          journeys that {sideName(sides, "one")}, beside {sideName(sides, "other")}
        </span>
      )}
      {sides && sides.other !== "" && (
        <button
          type="button"
          className="figure-button"
          onClick={() => choose({ ...sides, one: sides.other, other: sides.one })}
        >
          the other way round
        </button>
      )}
    </div>
  );
}

type Property = { name: string; values: { name: string }[] };

/** The latest two of a version, the first two of others: the order that the words have. */
export function firstTwo({ name, values }: Property): Sides {
  const names = values.map((value) => value.name);
  const [other = "", one = ""] = [...names].sort(inOrder).slice(-2);
  return { by: name, one, other };
}

function inOrder(one: string, other: string): number {
  return one.localeCompare(other, undefined, { numeric: true });
}

function kindOf(sides: Sides | null): string {
  if (!sides) {
    return "";
  }
  if (sides.by) {
    return `by ${sides.by}`;
  }
  if (/^\{"(since|until)"/.test(sides.one)) {
    return "periods";
  }
  return sides.one.includes('"measure"') && sides.other === "" ? "figure" : "segments";
}

/** The later half of the days against the earlier. */
function halves({ first, last }: AppSummary): Sides {
  const middle = ((first ?? 0) + (last ?? 0)) / 2;
  return {
    one: JSON.stringify({ since: isoDay(middle), until: isoDay(last ?? 0) }),
    other: JSON.stringify({ since: isoDay(first ?? 0), until: isoDay(middle - 86_400_000) }),
  };
}

interface PeriodProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
}

function Period({ label, value, onChange }: PeriodProps) {
  const days = JSON.parse(value || "{}") as { since?: string; until?: string };
  return (
    <span className="d-inline-flex gap-1 align-items-baseline">
      {(["since", "until"] as const).map((key) => (
        <Form.Control
          key={key}
          type="date"
          size="sm"
          className="in-row"
          aria-label={`${label} period, ${key}`}
          value={days[key] ?? ""}
          onChange={(event) =>
            event.target.value && onChange(JSON.stringify({ ...days, [key]: event.target.value }))
          }
        />
      ))}
    </span>
  );
}
