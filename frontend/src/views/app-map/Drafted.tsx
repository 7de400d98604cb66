import { useDraft } from "../../api/queries";
import { count } from "../../format";
import { PlainTable } from "../../shell/PlainTable";
import { ForRole } from "../../shell/role";
import { Loading, Trouble } from "../../shell/states";
import type { MapDocument } from "./document";

/** A map drafted from the log alone: each guess with its reason, to be taken as a whole. */
export function Drafted({ app, onTake }: { app: string; onTake: (map: MapDocument) => void }) {
  const found = useDraft(app);
  if (found.isPending) {
    return <Loading what="Drafting" />;
  }
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const { document, guesses } = found.data;
  const map = document as unknown as MapDocument;
  const filters = map.tabs?.filter((tab) => tab.kind === "filter").length ?? 0;
  const unsure = guesses.filter((guess) => !guess.sure);
  if (!map.screens?.length) {
    return <p className="soft">The log shows no screen to draft a map from.</p>;
  }
  return (
    <div className="column">
      <p className="mb-2">
        From the log alone: {count(map.screens.length, "screen")},{" "}
        {count((map.tabs?.length ?? 0) - filters, "tab")},{" "}
        {filters > 0 && `${count(filters, "filter")}, `}
        {count(map.links?.length ?? 0, "link")}.{" "}
        {unsure.length
          ? `${count(unsure.length, "guess", "guesses")} of ${count(guesses.length)} ${unsure.length === 1 ? "is" : "are"} unsure.`
          : "No guess is unsure."}
      </p>
      <ForRole least="work">
        <div className="d-flex gap-2 align-items-center mb-3">
          <button type="button" className="btn btn-sm btn-primary" onClick={() => onTake(map)}>
            Use this map
          </button>
          <span className="soft small-text">It becomes a new version; undo brings yours back.</span>
        </div>
      </ForRole>
      <PlainTable testid="guesses">
        <thead>
          <tr>
            <th>what</th>
            <th>guess</th>
            <th>since</th>
          </tr>
        </thead>
        <tbody>
          {[...unsure, ...guesses.filter((guess) => guess.sure)].map((guess) => (
            <tr key={guess.where}>
              <td className="clip" style={{ maxWidth: "19rem" }} title={guess.where}>
                {what(guess.where)}
              </td>
              <td className="clip" style={{ maxWidth: "14rem" }} title={guess.value}>
                {guess.value} {!guess.sure && <span className="mark-word">unsure</span>}
              </td>
              <td className="soft small-text">{guess.why}</td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
    </div>
  );
}

/** Where a guess stands in the map, as a person says it: "role of Splash". */
function what(where: string): string {
  const [kind, ...rest] = where.split(".");
  const last = rest.at(-1) ?? "";
  if (kind === "links") {
    return rest.join(".");
  }
  const about = { aliases: "also called", on: "screen" }[last] ?? last;
  return `${about} of ${rest.slice(0, -1).join(".")}`;
}
