import type { FunnelFigures } from "../../api/client";
import { count, short, signed } from "../../format";
import { FigureButton } from "../../shell/FigureButton";
import { ShareCell } from "../../shell/ShareCell";

interface Props {
  found: FunnelFigures;
  words: string[];
  by: string;
  two: [string, string] | null;
  figure: string | null;
  figureOf: (cell: string, by?: string, value?: string) => string;
  onChoose: (figure: string) => void;
}

/** The same track for each group, small and under one another, stage under stage. */
export function Multiples({ found, words, by, two, figure, figureOf, onChoose }: Props) {
  const shown = two
    ? found.groups.filter((group) => two.includes(group.value ?? ""))
    : found.groups;
  const later = words.slice(1);
  return (
    <>
      <table className="table table-sm plain mt-3 multiples" data-testid="groups">
        <thead>
          <tr>
            <th>{by}</th>
            <th className="n">{short(words[0] ?? "", 18)}</th>
            {later.map((word, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: two stages may be alike
              <th key={i} title={word}>
                {short(word, 18)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map((group) => {
            const value = group.value ?? "";
            return (
              <tr key={value}>
                <td className="clip" style={{ maxWidth: "12rem" }}>
                  {value || <span className="soft">not told</span>}
                  {group.small && <span className="soft small-text"> too few</span>}
                </td>
                {group.stages.map((stage, i) => (
                  <td key={stage.cell} className={i ? "" : "n"}>
                    {i > 0 && <ShareCell share={stage.of_first} most={1} />}{" "}
                    <FigureButton
                      figure={figureOf(stage.cell, by, value)}
                      chosen={figure}
                      onChoose={onChoose}
                    >
                      {count(stage.count)}
                    </FigureButton>
                  </td>
                ))}
              </tr>
            );
          })}
          {two && found.between && (
            <tr>
              <td className="soft">
                {two[0] || "not told"} less {two[1] || "not told"}
              </td>
              <td />
              {found.between.slice(1).map(({ of_first: gap }, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: one of each stage
                <td key={i}>
                  {gap && (
                    <span className={gap.low > 0 || gap.high < 0 ? "fw-semibold" : "soft"}>
                      {signed(gap.difference)}{" "}
                      <span className="soft small-text fw-normal">
                        ({signed(gap.low)} to {signed(gap.high)})
                      </span>
                    </span>
                  )}
                </td>
              ))}
            </tr>
          )}
        </tbody>
      </table>
      {found.groups_left_out > 0 && (
        <p className="soft small-text">
          {count(found.groups_left_out, "smaller group")} not shown.
        </p>
      )}
      {two && (
        <p className="soft small-text">
          Differences of the share of the first stage, with their 95 % intervals; bold where they
          are beyond chance.
        </p>
      )}
    </>
  );
}
