import type { Schemas } from "../../api/client";
import { count, percent } from "../../format";

interface Props {
  fates: Schemas["Fates"];
  setAside: number;
}

/** What became of every row, as one bar. */
export function RowFates({ fates, setAside }: Props) {
  const again = fates.doubled + fates.repeated + fates.resent;
  const all = fates.made + fates.merged + fates.kept + again + setAside;
  if (!all) {
    return null;
  }
  const parts = [
    { n: fates.made, words: "made a step", colour: "var(--moss)" },
    { n: fates.merged, words: "merged into a step", colour: "var(--moss-wash)" },
    { n: again, words: "said again, merged", colour: "var(--ochre)" },
    { n: fates.kept, words: "kept on a step", colour: "var(--tarn)" },
    { n: setAside, words: "set aside", colour: "var(--rust)" },
  ];
  return (
    <div className="my-2 column">
      <div className="d-flex" style={{ height: 14 }} aria-hidden="true">
        {parts.map((part) => (
          <div
            key={part.words}
            style={{ width: `${(part.n / all) * 100}%`, background: part.colour }}
          />
        ))}
      </div>
      <div className="d-flex flex-wrap column-gap-3 mt-1 small-text">
        {parts.map((part) => (
          <span key={part.words}>
            <i
              className="d-inline-block me-1"
              style={{ width: 10, height: 10, background: part.colour }}
            />
            <span className="fw-semibold">{count(part.n)}</span> {part.words}{" "}
            <span className="soft">{percent(part.n / all)}</span>
          </span>
        ))}
      </div>
    </div>
  );
}
