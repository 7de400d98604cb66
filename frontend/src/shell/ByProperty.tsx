import { Form } from "react-bootstrap";
import { useBreakdown, useVocabulary } from "../api/queries";
import { count, signed } from "../format";
import { type Scope, useAddress } from "../scope/scope";
import { ShareCell } from "./ShareCell";

interface Props {
  app: string;
  scope: Scope;
  measure: string;
  figure: string;
}

/** The open figure, for each value of a property: its journeys as a share of those in scope. */
export function ByProperty({ app, scope, measure, figure }: Props) {
  const [address, change] = useAddress();
  const by = address.get("split") ?? undefined;
  const versus = address.getAll("versus");
  const properties = useVocabulary(app).data?.properties ?? [];
  const [one, other] = versus[0]?.split("\n") ?? [];
  const two = one !== undefined && other !== undefined ? { one, other } : {};
  const found = useBreakdown(app, scope, measure, figure, { by, ...two }).data;
  if (!properties.length) {
    return null;
  }
  const groups = found?.groups ?? [];
  const most = Math.max(...groups.map((g) => g.share.count / g.share.of || 0), 0.001);
  return (
    <>
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="These journeys by"
        value={by ?? ""}
        onChange={(event) => change({ split: event.target.value, versus: null })}
      >
        <option value="">by a property …</option>
        {properties.map((property) => (
          <option key={property.name} value={property.name}>
            by {property.name}
          </option>
        ))}
      </Form.Select>
      {by && found && (
        <table className="table table-sm plain mb-1 w-100" data-testid="split">
          <tbody>
            {groups.map((group, i) => (
              <tr key={group.value}>
                <td className="clip" style={{ maxWidth: "6rem" }}>
                  {group.value || <span className="soft">not told</span>}
                </td>
                <td className="n">{count(group.share.count)}</td>
                <td>
                  <ShareCell share={group.share} most={most} />
                </td>
                <td className="small-text">
                  {i > 0 && (
                    <button
                      type="button"
                      className="figure-button"
                      title={`Compare with ${groups[0]?.value || "not told"}`}
                      onClick={() => change({ versus: `${groups[0]?.value}\n${group.value}` })}
                    >
                      beside
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {by && found?.between && (
        <p className="small-text mb-1" data-testid="difference">
          {one || "not told"} less {other || "not told"}: {signed(found.between.difference)}{" "}
          <span className="soft">
            (95 %: {signed(found.between.low)} to {signed(found.between.high)})
          </span>
        </p>
      )}
    </>
  );
}
