import { useQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { useNavigate } from "react-router";
import { journeysPage, type Sort } from "../api/queries";
import { count } from "../format";
import { type Scope, scopeSearch, useAddress } from "../scope/scope";
import { JourneyList } from "./JourneyList";
import { Pane } from "./Pane";
import { SortChoice } from "./SortChoice";
import { Loading, Trouble } from "./states";

interface Props {
  app: string;
  scope: Scope;
  measure: string;
  figure: string;
  /** What the journeys have in common, to follow their number: "tried and did not get in". */
  words: string;
}

/** The journeys behind a figure: exactly those that it counts. */
export function Evidence({ app, scope, measure, figure, words }: Props) {
  const [address, change] = useAddress();
  const navigate = useNavigate();
  const sort = (address.get("sort") ?? "newest") as Sort;
  const list = { measure, figure, sort };
  const first = useQuery(journeysPage(app, scope, list, 0));
  const close = useCallback(() => change({ figure: null }), [change]);
  return (
    <Pane
      label="Journeys behind the figure"
      title={
        <>
          <span className="fw-semibold" data-testid="evidence-count">
            {first.data ? count(first.data.total, "journey") : "…"}
          </span>{" "}
          {words}
        </>
      }
      head={
        <>
          {scope.unit === "users" && (
            <div className="small-text soft">one for each user: the one that got furthest</div>
          )}
          <SortChoice sort={sort} onSort={(next) => change({ sort: next })} />
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
              search: scopeSearch(address, { measure, figure, sort, journey: journey.key }),
            })
          }
        />
      )}
    </Pane>
  );
}
