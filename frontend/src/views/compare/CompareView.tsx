import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { AppSummary, Schemas } from "../../api/client";
import { useComparison, useVocabulary } from "../../api/queries";
import { Beside, gapWords, valueWords, verdict } from "../../charts/Beside";
import { count } from "../../format";
import { scopeSearch, useAddress, useScope } from "../../scope/scope";
import { Choice } from "../../shell/Choice";
import type { Column } from "../../shell/columns";
import { Evidence } from "../../shell/Evidence";
import { Picture } from "../../shell/Picture";
import { Empty, Loading, Trouble } from "../../shell/states";
import { VIEWS } from "../../shell/views";
import { firstTwo, SidesChoice } from "./SidesChoice";
import { inView, type Sides, scopeOf, sideName, useSides } from "./sides";

type Compared = Schemas["Compared"];
type Comparison = Schemas["Comparison"];

const AT_FIRST = 30;

/** Two groups held against each other in all figures of all views. */
export function CompareView({ app }: { app: AppSummary }) {
  const sides = useSides();
  const scope = useScope();
  const [address, change] = useAddress();
  const properties = useVocabulary(app.key).data?.properties;
  useEffect(() => {
    const usual = properties?.find((one) => one.values.length > 1 && /version/i.test(one.name));
    const chosen = usual ?? properties?.find((one) => one.values.length > 1);
    if (!sides && chosen) {
      change({ ...firstTwo(chosen) });
    }
  }, [sides, properties, change]);
  const answer = useComparison(app.key, scope, sides);
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then this page holds two groups of journeys against each other.
      </Empty>
    );
  }
  const side = address.get("side") === "other" ? "other" : "one";
  const figure = address.get("figure");
  return (
    <>
      <div className="view-body">
        {answer.data && sides && <h1>{sentence(answer.data, sides)}</h1>}
        {!answer.data && <h1>Two groups of journeys, in all figures of all views.</h1>}
        <SidesChoice app={app} sides={sides} />
        {!sides && properties && (
          <p className="soft">
            Choose two values of a property, two periods, or a kept segment and the others. From the
            pane beside any figure its journeys are held against the others, too.
          </p>
        )}
        {answer.isLoading && <Loading />}
        {answer.isError && <Trouble problem={answer.error} />}
        {answer.data && sides && <Told app={app} sides={sides} found={answer.data} />}
      </div>
      {figure && sides && (
        <Evidence
          app={app.key}
          scope={scopeOf(scope, sides, side)}
          measure={address.get("of") ?? ""}
          figure={figure}
        />
      )}
    </>
  );
}

function sentence(found: Comparison, sides: Sides): string {
  const [one, other] = [sideName(sides, "one"), sideName(sides, "other")];
  const beyond = found.figures.filter((row) => row.beyond);
  if (!found.looked_at) {
    return `There are too few users in ${one} or in ${other} to tell a difference.`;
  }
  const told = `Of ${count(found.looked_at, "figure")}, ${count(beyond.length)} ${beyond.length === 1 ? "differs" : "differ"} beyond chance between ${one} and ${other}.`;
  const [first] = beyond;
  if (!first) {
    return told;
  }
  return `${told} What touches most users: ${first.says}, ${valueWords(first, first.one.value)} instead of ${valueWords(first, first.other.value)}.`;
}

const SHOWN = {
  beyond: "beyond chance",
  worse: "worse",
  better: "better",
  all: "all",
} as const;
type Shown = keyof typeof SHOWN;

function fits(row: Compared, shown: Shown): boolean {
  return shown === "all" || (row.beyond && (shown === "beyond" || verdict(row) === shown));
}

function Told({ app, sides, found }: { app: AppSummary; sides: Sides; found: Comparison }) {
  const [address, change] = useAddress();
  const shown = (address.get("show") ?? "beyond") as Shown;
  const view = address.get("view") ?? "";
  const [many, setMany] = useState(AT_FIRST);
  const fitting = found.figures.filter((row) => fits(row, shown));
  const rows = fitting.filter((row) => !view || viewOf(row) === view);
  const views = [...new Set(fitting.map(viewOf))];
  const names: [string, string] = [sideName(sides, "one"), sideName(sides, "other")];
  const side = address.get("side") === "other" ? "other" : "one";
  const figure = address.get("figure");
  const open = rows.find((row) => row.figure === figure && row.measure === address.get("of"));
  const choose = (key: string) => {
    const row = rows.find((one) => keyOf(one) === key);
    change(
      row && row !== open
        ? { figure: row.figure, of: row.measure, side: null }
        : { figure: null, of: null, side: null },
    );
  };
  const kinds = Object.fromEntries(
    (Object.keys(SHOWN) as Shown[]).map((key) => [
      key,
      `${SHOWN[key]} ${count(found.figures.filter((row) => fits(row, key)).length)}`,
    ]),
  ) as Record<Shown, string>;
  return (
    <>
      <p className="soft small-text mb-2">
        {names[0]}: {count(found.one.journeys, "journey")} of {count(found.one.users, "user")} ·{" "}
        {names[1]}: {count(found.other.journeys, "journey")} of {count(found.other.users, "user")}
        {found.in_both > 0 && ` · ${count(found.in_both, "journey")} in both left out`}
        {found.strata.length > 1 &&
          ` · alike: within ${count(found.strata.length)} kinds of journeys (${found.strata
            .slice(0, 3)
            .map(({ name }) => name)
            .join("; ")}${found.strata.length > 3 ? "; …" : ""})`}
      </p>
      <Disagreeing found={found} />
      {open && (
        <p className="small-text mb-2" data-testid="opened">
          {open.says}, of {open.of}: journeys of{" "}
          <Choice
            label="Whose journeys"
            choices={{ one: names[0], other: names[1] }}
            chosen={side}
            onChoose={(next) => change({ side: next === "one" ? null : next })}
          />{" "}
          ·{" "}
          <Link
            to={{
              pathname: VIEWS[open.measure]?.path ?? "",
              search: scopeSearch(address, inView(sides, open.figure, open.measure)),
            }}
          >
            see both in {viewOf(open)}
          </Link>
        </p>
      )}
      <Picture
        name={`${app.key}-compare`}
        title="Both groups, by users touched"
        choices={
          <>
            <Choice
              label="Which figures"
              choices={kinds}
              chosen={shown}
              onChoose={(next) => change({ show: next === "beyond" ? null : next })}
            />
            {views.length > 1 && (
              <select
                className="form-select form-select-sm in-row"
                aria-label="Of which view"
                value={view}
                onChange={(event) => change({ view: event.target.value })}
              >
                <option value="">all views</option>
                {views.map((one) => (
                  <option key={one} value={one}>
                    {one}
                  </option>
                ))}
              </select>
            )}
          </>
        }
        table={{
          columns: columns(names),
          rows,
          id: keyOf,
          testid: "compared",
        }}
      >
        {rows.length ? (
          <Beside
            rows={rows.slice(0, many)}
            names={names}
            viewOf={viewOf}
            keyOf={keyOf}
            chosen={open ? keyOf(open) : null}
            onChoose={choose}
          />
        ) : (
          <p className="soft">
            {shown === "all" ? "There is nothing to tell." : "Nothing differs beyond chance here."}
          </p>
        )}
      </Picture>
      {rows.length > many && (
        <button type="button" className="figure-button mb-3" onClick={() => setMany(rows.length)}>
          show all {count(rows.length)}
        </button>
      )}
      <p className="soft small-text">
        Users are what chance works on: those who bring several journeys count as one throw. A
        difference is beyond chance if, of all that are called so, at most 5 in 100 are to be false.{" "}
        {count(found.looked_at, "figure")} had users enough to be looked at.
      </p>
    </>
  );
}

function Disagreeing({ found }: { found: Comparison }) {
  const many = found.figures.filter((row) => row.disagree && (row.beyond || row.like)).length;
  if (!many) {
    return null;
  }
  return (
    <p className="small-text mb-2" data-testid="disagree">
      <i className="bi bi-shuffle" /> In {count(many, "figure")} the plain difference and the one
      among like journeys disagree: the groups are made of different mixes. Go by the latter.
    </p>
  );
}

function viewOf(row: Compared): string {
  const word = VIEWS[row.measure]?.word ?? row.measure;
  return row.name && row.name !== word ? `${word}: ${row.name}` : word;
}

function keyOf(row: Compared): string {
  return `${row.measure} ${row.name} ${row.figure} ${row.timed}`;
}

function columns(names: [string, string]): Column<Compared>[] {
  const n = (title: string, value: (row: Compared) => number | null): Column<Compared> => ({
    title,
    value,
    numeric: true,
  });
  const own = (name: string, side: "one" | "other"): Column<Compared>[] => [
    { ...n(name, (row) => row[side].value), cell: (row) => valueWords(row, row[side].value) },
    { ...n(`${name}, n`, (row) => row[side].of), cell: (row) => count(row[side].of), soft: true },
  ];
  return [
    { title: "view", value: viewOf, soft: true },
    { title: "figure", value: (row) => row.says, width: "18rem" },
    { title: "of", value: (row) => row.of, width: "12rem", soft: true },
    ...own(names[0], "one"),
    ...own(names[1], "other"),
    {
      ...n("difference", (row) => row.gap.difference),
      cell: (row) => gapWords(row, row.gap.difference),
    },
    {
      title: "95 %",
      value: (row) => `${gapWords(row, row.gap.low)} to ${gapWords(row, row.gap.high)}`,
      soft: true,
    },
    {
      ...n("alike", (row) => row.like?.difference ?? null),
      cell: (row) => (row.like ? gapWords(row, row.like.difference) : "–"),
    },
    {
      ...n("beyond chance", (row) => row.q),
      about: "The rate of false ones among all that are called so, if this is",
      cell: (row) => (row.q === null ? "too few" : row.q < 0.001 ? "< 0.001" : row.q.toFixed(3)),
    },
    { ...n("users touched", (row) => row.touched), cell: (row) => count(Math.round(row.touched)) },
    { title: "", value: (row) => (row.beyond ? verdict(row) : "") },
  ];
}
