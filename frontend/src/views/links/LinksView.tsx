import type { AppSummary, LinkFigures } from "../../api/client";
import { useMeasure } from "../../api/queries";
import { type LinkLine, LinkTracks } from "../../charts/LinkTracks";
import { count, percent } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { useCounted } from "../../scope/useCounted";
import { useFigure } from "../../scope/useFigure";
import { Choice } from "../../shell/Choice";
import { type Column, half, middle, name, number, share, text, times } from "../../shell/columns";
import { DataTable } from "../../shell/DataTable";
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
                <Lines app={app.key} group={group} rows={rows} />
                <Then app={app.key} found={found} rows={rows} />
                {found.unmatched.length > 0 && (
                  <DataTable
                    name={`${app.key}-unmatched-links`}
                    title="Links that fit no pattern"
                    columns={UNMATCHED}
                    rows={found.unmatched}
                    id={(one) => one.link}
                    testid="unmatched"
                  />
                )}
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

function said(row: Row): string {
  return STARTS[row.name] ?? row.name;
}

interface LinesProps {
  app: string;
  group: Group;
  rows: Row[];
}

function Lines({ app, group, rows }: LinesProps) {
  const [, change] = useAddress();
  const [figure, choose] = useFigure();
  const counted = useCounted();
  const lines: LinkLine[] = rows.map((row) => ({
    name: said(row),
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
      table={{ columns: landed(rows), rows, id: (row) => row.name, testid: "links" }}
      below
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

type Line = { said: string; came: Landed };

/** What came after landing, beside sessions without a link. */
function Then({ app, found, rows }: { app: string; found: LinkFigures; rows: Row[] }) {
  const lines: Line[] = [
    ...rows.map((row) => ({ said: said(row), came: row.then })),
    { said: "all links", came: found.every.then },
    { said: "sessions without a link", came: found.without_then },
  ];
  const all = ({ came }: Line) =>
    Object.values(came.after).reduce((sum, own) => sum + own.times, 0);
  const columns: Column<Line>[] = [
    name("landed by", (line) => line.said),
    number("landings", all),
    times("ended there", ({ came }) => came.after.bounced),
    share("of landings", (line) => ({ count: line.came.after.bounced?.times ?? 0, of: all(line) })),
    number("middle steps more", ({ came }) => came.more?.median),
    middle("middle time on it", ({ came }) => came.stayed),
    ...half<Line>("half between", ({ came }) => came.stayed),
    ...(found.goal
      ? [
          times<Line>(`then ${found.goal}`, ({ came }) => came.goal ?? undefined),
          share<Line>("of those landings", (line) => ({
            count: line.came.goal?.times ?? 0,
            of: all(line),
          })),
        ]
      : []),
  ];
  return (
    <DataTable
      name={`${app}-after-landing`}
      title="After landing, beside sessions without a link"
      choices={<GoalChoice app={app} none="and a goal …" />}
      columns={columns}
      rows={lines}
      id={(line) => line.said}
      rowClass={(line) => (line === lines[rows.length] ? "first-of-rule" : "")}
      testid="then"
    />
  );
}

function landed(rows: Row[]): Column<Row>[] {
  const ends = ENDS.filter((end) => rows.some((row) => row.landed[end]?.times));
  return [
    name("links", said, "15rem"),
    times("opened", (row) => row.opened),
    ...ends.map((end) => times<Row>(LANDED[end] ?? end, (row) => row.landed[end])),
    ...AFTERS.map((what) => times<Row>(AFTER[what] ?? what, (row) => row.then.after[what])),
    times("placeholder", (row) => row.placeholder),
  ];
}

const UNMATCHED: Column<LinkFigures["unmatched"][number]>[] = [
  { title: "link", value: (one) => one.link, width: "24rem" },
  times("opened", (one) => one.count),
  text("closest pattern", (one) => one.closest),
  text("what differs", (one) => one.differs),
];
