import { Form } from "react-bootstrap";
import { useBreakdown, useVocabulary } from "../api/queries";
import { count } from "../format";
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
  const by = address.get("split") ?? "";
  const properties = useVocabulary(app).data?.properties ?? [];
  const found = useBreakdown(app, scope, measure, figure, by).data;
  if (!properties.length) {
    return null;
  }
  const most = Math.max(
    ...(found?.groups ?? []).map((g) => g.share.count / g.share.of || 0),
    0.001,
  );
  return (
    <>
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="These journeys by"
        value={by}
        onChange={(event) => change({ split: event.target.value })}
      >
        <option value="">by a property …</option>
        {properties.map((one) => (
          <option key={one.name} value={one.name}>
            by {one.name}
          </option>
        ))}
      </Form.Select>
      {by && found && (
        <table className="table table-sm plain mb-1 w-100" data-testid="split">
          <tbody>
            {found.groups.map((group) => (
              <tr key={group.value}>
                <td className="clip" style={{ maxWidth: "6rem" }}>
                  {group.value || <span className="soft">not told</span>}
                </td>
                <td className="n">{count(group.share.count)}</td>
                <td>
                  <ShareCell share={group.share} most={most} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
