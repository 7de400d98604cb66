import { Form } from "react-bootstrap";
import { useHistoryFits } from "../../api/queries";
import { count } from "../../format";
import { useAddress } from "../../scope/scope";
import { PlainTable } from "../../shell/PlainTable";
import { ForRole } from "../../shell/role";
import { Loading, Trouble } from "../../shell/states";
import { HISTORY, type MapDocument, settingOf, UNDER, withSetting, withUnder } from "./document";

type Lies = Record<string, string>;

interface Props {
  app: string;
  map: MapDocument;
  fixed: boolean;
  onChange: (map: MapDocument) => void;
}

/** Single links of which the log tells what lies under their screens. */
function LinksTold({ links, map, onChange }: { links: Lies } & Omit<Props, "app" | "fixed">) {
  const told = Object.entries(links);
  if (!told.length) {
    return null;
  }
  return (
    <PlainTable testid="links-told">
      <caption className="caption-top">
        What the log tells of single links, where no stack is kept
      </caption>
      <tbody>
        {told.map(([pattern, under]) => {
          const held = map.links?.find((link) => link.pattern === pattern)?.under;
          return (
            <tr key={pattern}>
              <td className="fw-semibold">{pattern}</td>
              <td>lands {UNDER[under]}</td>
              <td>
                {held === under ? (
                  <span className="fits">as the map says</span>
                ) : (
                  <ForRole least="work">
                    <button
                      type="button"
                      className="figure-button"
                      onClick={() => onChange(withUnder(map, pattern, under))}
                    >
                      say so in the map
                    </button>
                  </ForRole>
                )}
              </td>
            </tr>
          );
        })}
      </tbody>
    </PlainTable>
  );
}

/** How the app's back stack behaves: each rule as the map has it, and how well each fits. */
export function HistoryRules({ app, map, fixed, onChange }: Props) {
  const [address, change] = useAddress();
  const by = address.get("by") ?? "";
  const found = useHistoryFits(app, by);
  if (found.isPending) {
    return <Loading what="Replaying under each rule" />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const whole = found.data[0];
  const parts = found.data.slice(1);
  const moves = whole?.moves ?? 0;
  return (
    <div className="column">
      <p className="soft">
        {moves > 0
          ? `${count(moves, "move")} that rows tell of, replayed under each setting: so many landed elsewhere than predicted. Where the numbers are alike, the log cannot tell the settings apart.`
          : "No row tells a move, so the settings are held against each other by how likely they make the views. The fewer points behind the best, the likelier."}
      </p>
      <div className="small-text mb-2 d-flex gap-2 align-items-center">
        <label htmlFor="history-by">for each</label>
        <Form.Select
          id="history-by"
          size="sm"
          className="in-row"
          value={by}
          onChange={(event) => change({ by: event.target.value })}
        >
          <option value="">nothing further</option>
          <option value="version">version</option>
          <option value="platform">platform</option>
        </Form.Select>
      </div>
      <PlainTable testid="history">
        <thead>
          <tr>
            <th>what</th>
            <th>does this</th>
            <th className="n">{moves > 0 ? "landed elsewhere" : "points behind"}</th>
            <th>
              <span className="visually-hidden">the best</span>
            </th>
            {parts.map((part) => (
              <th key={part.value} />
            ))}
          </tr>
        </thead>
        <tbody>
          {Object.entries(HISTORY).map(([rule, { about, settings }]) => {
            const held = settingOf(map, rule);
            return Object.entries(settings).map(([setting, does], i) => {
              const fit = whole?.fits.find((f) => f.rule === rule && f.setting === setting);
              const best = whole?.told[rule] && whole.history[rule] === setting;
              return (
                <tr key={`${rule} ${setting}`} className={i === 0 ? "first-of-rule" : ""}>
                  <td className="fw-semibold">{i === 0 ? about : ""}</td>
                  <td>
                    <Form.Check
                      type="radio"
                      name={rule}
                      id={`${rule}-${setting}`}
                      label={does}
                      checked={held === setting}
                      disabled={fixed}
                      onChange={() => onChange(withSetting(map, rule, setting))}
                    />
                  </td>
                  <td className="n">{fit ? count(fit.misfits) : ""}</td>
                  <td className="small-text">
                    {best && <span className="fits">fits best</span>}
                    {i === 0 && whole && !whole.told[rule] && (
                      <span className="soft">the log cannot tell</span>
                    )}
                  </td>
                  {parts.map((part) => (
                    <td key={part.value} className="small-text soft text-nowrap">
                      {part.told[rule] && part.history[rule] === setting
                        ? `best in ${part.value}`
                        : ""}
                    </td>
                  ))}
                </tr>
              );
            });
          })}
        </tbody>
      </PlainTable>
      <LinksTold links={whole?.links ?? {}} map={map} onChange={onChange} />
    </div>
  );
}
