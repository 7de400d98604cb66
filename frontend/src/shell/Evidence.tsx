import { useQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { Link, useNavigate } from "react-router";
import { journeysPage, type Sort } from "../api/queries";
import { count } from "../format";
import { figureWords, partWords } from "../scope/figures";
import { type Scope, scopeSearch, useAddress, useOpenedScope, useScope } from "../scope/scope";
import { partsOf, type Segment, written } from "../scope/segment";
import { Along, useAlong } from "./Along";
import { JourneyList } from "./JourneyList";
import { Keep } from "./Keep";
import { Pane } from "./Pane";
import { SortChoice } from "./SortChoice";
import { Loading, Trouble } from "./states";

interface Props {
  app: string;
  /** Where it is not the page's. */
  scope?: Scope;
  measure: string;
  figure: string;
  /** What is counted where it is not the journeys themselves, such as starts. */
  counted?: string;
}

/** Measures that tell one journey of each user, if users are counted. */
const BY_USER = ["funnel", "onboarding", "sign-in"];

/** The journeys behind a figure: exactly those that it counts. */
export function Evidence({ app, scope: given, measure, figure, counted }: Props) {
  const [address, change] = useAddress();
  const [opened, page] = [useOpenedScope(), useScope()];
  const along = useAlong();
  const scope = given ?? opened;
  const { part, part_by, part_over } = scope;
  const group: Record<string, string> =
    part === undefined
      ? {}
      : { part, ...(part_by && { part_by }), ...(part_over && { part_over }) };
  const navigate = useNavigate();
  const sort = (address.get("sort") ?? "newest") as Sort;
  const list = { measure, figure, sort };
  const first = useQuery(journeysPage(app, scope, list, 0));
  const own = { measure, figure, ...group };
  const narrow = (more: Segment) =>
    change({ segment: written([...partsOf(scope.segment), more]), figure: null, of: null });
  const close = useCallback(() => change({ figure: null, of: null }), [change]);
  return (
    <Pane
      label="Journeys behind the figure"
      wide={along !== null}
      title={
        <>
          <span className="fw-semibold" data-testid="evidence-count">
            {first.data ? count(first.data.total, "journey") : "…"}
          </span>{" "}
          {figureWords(measure, figure)}
          {partWords(scope)}
        </>
      }
      head={
        <>
          {scope.unit === "users" && BY_USER.includes(measure) && (
            <div className="small-text soft">one for each user: the one that got furthest</div>
          )}
          {counted && <div className="small-text soft">a journey can hold several {counted}</div>}
          <SortChoice sort={sort} onSort={(next) => change({ sort: next })} />
          {!part_by && <Along app={app} scope={given ?? page} measure={measure} figure={figure} />}
          <div className="d-flex flex-wrap column-gap-3">
            <Keep
              app={app}
              scope={scope}
              measure={measure}
              figure={figure}
              sentence={
                first.data
                  ? `${count(first.data.total, "journey")} ${figureWords(measure, figure)}${partWords(scope)}`
                  : ""
              }
            />
            <button type="button" className="figure-button" onClick={() => narrow(own)}>
              only these
            </button>
            <button type="button" className="figure-button" onClick={() => narrow({ not: own })}>
              without these
            </button>
            <Link
              to={{
                pathname: "/compare",
                search: scopeSearch(address, { one: JSON.stringify(own), other: "" }),
              }}
            >
              beside the others
            </Link>
          </div>
        </>
      }
      onClose={close}
    >
      {first.isPending && <Loading />}
      {first.isError && <Trouble problem={first.error} />}
      {first.data && (
        <JourneyList
          app={app}
          scope={scope}
          list={list}
          total={first.data.total}
          chosen={null}
          narrow
          onChoose={(journey) =>
            navigate({
              pathname: "/journeys",
              search: scopeSearch(address, {
                measure,
                figure,
                ...group,
                sort,
                journey: journey.key,
              }),
            })
          }
        />
      )}
    </Pane>
  );
}
