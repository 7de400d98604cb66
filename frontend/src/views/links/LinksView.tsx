import type { AppSummary, LinkFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { type LinkLine, LinkTracks } from "../../charts/LinkTracks";
import { count, duration, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useCounted } from "../../scope/useCounted";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { CountButton } from "../../shell/CountButton";
import { GoalChoice } from "../../shell/GoalChoice";
import { useGroups } from "../../shell/GroupChoice";
import { MeasureView } from "../../shell/MeasureView";
import { Picture } from "../../shell/Picture";
import { AFTER, LANDED } from "../inside";

type Row = LinkFigures["patterns"][number];
type Landed = Row["then"];

const GROUPS = { patterns: "by pattern", sources: "by source", starts: "cold and warm" };
type Group = keyof typeof GROUPS;
const STARTS: Record<string, string> = { cold: "started the app", warm: "in the running app" };

/** Deep links: one line for each kind, from opened to landed to what came then. */
export function LinksView({ app }: { app: AppSummary }) {
  const [address] = useAddress();
  const answer = useMeasure(app.key, "links", useScope(), {
    params: { goal: address.get("goal") ?? "" },
    groups: useGroups(),
  });
  const asked = address.get("group") ?? "";
  const group: Group = asked in GROUPS ? (asked as Group) : "patterns";
  return (
    <MeasureView
      app={app}
      measure="links"
      answer={answer}
      sentence={sentence}
      purpose="this page shows where deep links land"
      counted="of them"
      columns={() => [
        {
          title: "opened",
          count: (found) => found.every.opened.times,
          figure: (found) => found.every.opened.figure,
        },
        {
          title: "reached what they name",
          share: (found) => found.every.arrived,
          path: "every/arrived",
        },
        ...["recovered", "fallback", "not_found", "lost"].map((end) => ({
          title: LANDED[end] ?? end,
          count: (found: LinkFigures) => found.every.landed[end]?.times,
          figure: (found: LinkFigures) => found.every.landed[end]?.figure,
        })),
      ]}
    >
      {(found) => {
        const rows = found[group].filter((row) => row.opened.times || group === "patterns");
        return (
          <>
            {found.every.opened.times > 0 && (
              <>
                <Lines app={app.key} found={found} group={group} rows={rows} />
                <Then app={app.key} found={found} rows={rows} />
                <LandedTable rows={rows} />
                <Unmatched found={found} />
              </>
            )}
          </>
        );
      }}
    </MeasureView>
  );
}

function sentence(found: LinkFigures): string {
  const { every } = found;
  if (!every.opened.times) {
    return `No row tells of a link that was opened, in ${count(found.in_scope, "journey")} in scope.`;
  }
  const share = percent(every.arrived.count / every.arrived.of || 0);
  const odd = found.patterns.find((one) => one.placeholder.times);
  const filled = odd
    ? ` ${count(odd.placeholder.times)} of ${odd.name} came with a value that was never filled in.`
    : "";
  const [worst] = found.unmatched;
  const lost = worst
    ? ` ${count(worst.count.times)} fit no pattern, most ${worst.link}: what differs is ${worst.differs}.`
    : "";
  return `${share} of ${count(every.opened.times, "link")} reached what they name.${lost}${filled}`;
}

/** The ways, as they lie side by side in a bar. */
const ENDS = ["target", "recovered", "fallback", "not_found", "lost", "nothing"];
const AFTERS = ["stayed", "returned", "parent", "back_out", "bounced"];

function name(row: Row, group: Group): string {
  return group === "starts" ? (STARTS[row.name] ?? row.name) : row.name;
}

interface LinesProps {
  app: string;
  found: LinkFigures;
  group: Group;
  rows: Row[];
}

function Lines({ app, found, group, rows }: LinesProps) {
  const [, change] = useAddress();
  const [figure, choose] = useFigure();
  const counted = useCounted();
  const lines: LinkLine[] = rows.map((row) => ({
    name: name(row, group),
    opened: row.opened,
    landed: ways(row.landed, ENDS),
    after: ways(row.then.after, AFTERS),
  }));
  return (
    <Picture
      name={`${app}-links`}
      title="From opened to landed to stayed"
      choices={
        <Choice
          label="Lines of links"
          choices={GROUPS}
          chosen={group}
          onChoose={(chosen) => change({ group: chosen === "patterns" ? null : chosen })}
        />
      }
      rows={() => table(found, rows)}
    >
      <LinkTracks
        lines={lines}
        words={{ ...LANDED, ...AFTER }}
        counted={counted}
        chosen={figure}
        onChoose={choose}
      />
    </Picture>
  );
}

function ways<Own>(of: Record<string, Own>, order: string[]): [string, Own][] {
  return order.flatMap((way) => (of[way] ? [[way, of[way]] satisfies [string, Own]] : []));
}

function table(found: LinkFigures, rows: Row[]): (string | number | null)[][] {
  const then = (landed: Landed) => [
    ...AFTERS.map((what) => landed.after[what]?.times ?? 0),
    landed.more?.median ?? null,
    landed.stayed?.median ?? null,
    landed.goal?.times ?? null,
  ];
  return [
    [
      "links",
      "opened",
      ...ENDS.map((end) => LANDED[end] ?? end),
      "placeholder",
      ...AFTERS.map((what) => AFTER[what] ?? what),
      "median steps more",
      "median ms on it",
      found.goal ? `then ${found.goal}` : "goal",
    ],
    ...[...rows, found.every].map((row) => [
      row.name || "all links",
      row.opened.times,
      ...ENDS.map((end) => row.landed[end]?.times ?? 0),
      row.placeholder.times,
      ...then(row.then),
    ]),
    [
      "without a link",
      found.without.times,
      ...ENDS.map(() => null),
      null,
      ...then(found.without_then),
    ],
  ];
}

/** What came after landing, beside sessions without a link. */
function Then({ app, found, rows }: { app: string; found: LinkFigures; rows: Row[] }) {
  const lines: [string, Landed][] = [
    ...rows.map((row): [string, Landed] => [STARTS[row.name] ?? row.name, row.then]),
    ["all links", found.every.then],
    ["sessions without a link", found.without_then],
  ];
  return (
    <>
      <div className="d-flex flex-wrap gap-3 align-items-baseline mb-1">
        <h2 className="mb-0">After landing, beside sessions without a link</h2>
        <GoalChoice app={app} none="and a goal …" />
      </div>
      <table className="table table-sm plain" data-testid="then">
        <thead>
          <tr>
            <th>landed by</th>
            <th className="n">landings</th>
            <th className="n">ended there</th>
            <th className="n">steps more, half within</th>
            <th className="n">time on it, half within</th>
            {found.goal && <th className="n">then {found.goal}</th>}
          </tr>
        </thead>
        <tbody>
          {lines.map(([said, then], i) => {
            const all = Object.values(then.after).reduce((sum, own) => sum + own.times, 0);
            const share = (n: number) =>
              all > 0 && <span className="soft small-text"> {percent(n / all)}</span>;
            return (
              <tr key={said} className={i === rows.length ? "first-of-rule" : ""}>
                <td className="clip" style={{ maxWidth: "16rem" }} title={said}>
                  {said}
                </td>
                <td className="n">{count(all)}</td>
                <td className="n">
                  <CountButton own={then.after.bounced} />
                  {share(then.after.bounced?.times ?? 0)}
                </td>
                <td className="n">
                  {then.more
                    ? `${count(then.more.median)} · ${count(then.more.first)} to ${count(then.more.third)}`
                    : "–"}
                </td>
                <td className="n">
                  {then.stayed
                    ? `${duration(then.stayed.median)} · ${duration(then.stayed.first)} to ${duration(then.stayed.third)}`
                    : "–"}
                </td>
                {found.goal && (
                  <td className="n">
                    <CountButton own={then.goal ?? undefined} />
                    {share(then.goal?.times ?? 0)}
                  </td>
                )}
              </tr>
            );
          })}
        </tbody>
      </table>
    </>
  );
}

function LandedTable({ rows }: { rows: Row[] }) {
  const ends = ENDS.filter((end) => rows.some((row) => row.landed[end]?.times));
  return (
    <>
      <h2>What they led to</h2>
      <table className="table table-sm plain" data-testid="links">
        <thead>
          <tr>
            <th>links</th>
            <th className="n">opened</th>
            {ends.map((end) => (
              <th key={end} className="n">
                {LANDED[end]}
              </th>
            ))}
            {AFTERS.map((what) => (
              <th key={what} className="n">
                {AFTER[what]}
              </th>
            ))}
            <th className="n">placeholder</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.name}>
              <td className="clip" style={{ maxWidth: "15rem" }} title={row.name}>
                {STARTS[row.name] ?? row.name}
              </td>
              {[
                row.opened,
                ...ends.map((end) => row.landed[end]),
                ...AFTERS.map((what) => row.then.after[what]),
                row.placeholder,
              ].map((own) => (
                <td key={own?.figure} className="n">
                  <CountButton own={own} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Unmatched({ found }: { found: LinkFigures }) {
  if (!found.unmatched.length) {
    return null;
  }
  return (
    <>
      <h2>Links that fit no pattern</h2>
      <table className="table table-sm plain" data-testid="unmatched">
        <thead>
          <tr>
            <th>link</th>
            <th className="n">opened</th>
            <th>closest pattern</th>
            <th>what differs</th>
          </tr>
        </thead>
        <tbody>
          {found.unmatched.slice(0, 50).map((one) => (
            <tr key={one.link}>
              <td className="clip" style={{ maxWidth: "24rem" }} title={one.link}>
                {one.link}
              </td>
              <td className="n">
                <CountButton own={one.count} />
              </td>
              <td>{one.closest}</td>
              <td>{one.differs}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
