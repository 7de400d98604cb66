import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import type { AppSummary } from "../api/client";
import type { FiguresOf, Measured, MeasureName } from "../api/queries";
import { useAddress } from "../scope/scope";
import { Evidence } from "./Evidence";
import { useGroups } from "./GroupChoice";
import { type GroupColumn, type GroupsOf, GroupTable } from "./GroupTable";
import { Empty, Loading, Trouble } from "./states";

interface Props<Name extends MeasureName> {
  app: AppSummary;
  measure: Name;
  answer: UseQueryResult<Measured<Name>>;
  /** What the page is for, told where there is nothing yet. */
  purpose: string;
  counted?: string;
  /** The main figure in words. */
  sentence: (found: FiguresOf<Name>) => string;
  /** Said instead of figures, where there are none to tell. */
  empty?: (found: FiguresOf<Name>) => ReactNode;
  /** What is told of each group of a property. */
  columns?: (whole: FiguresOf<Name>) => GroupColumn<FiguresOf<Name>>[];
  small?: (found: FiguresOf<Name>) => boolean;
  /** What is asked for: it stays where there is no answer. */
  lead?: ReactNode;
  children: (found: FiguresOf<Name>) => ReactNode;
}

/** A view of one measure: waiting, broken, empty, or its figures with the journeys beside them. */
export function MeasureView<Name extends MeasureName>(props: Props<Name>) {
  const { app, measure, answer, purpose, counted, sentence, columns, children } = props;
  const { small, empty, lead } = props;
  const [address] = useAddress();
  const groups = useGroups();
  const figure = address.get("figure");
  if (answer.isPending) {
    return <Loading />;
  }
  if (answer.isError) {
    return (
      <>
        {lead && <div className="view-body">{lead}</div>}
        <Trouble problem={answer.error} />
      </>
    );
  }
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then {purpose}.
      </Empty>
    );
  }
  const instead = empty?.(answer.data.whole);
  if (instead) {
    return instead;
  }
  return (
    <>
      <div className="view-body">
        <h1>{sentence(answer.data.whole)}</h1>
        {lead}
        {columns && (
          <section className="mb-2">
            <GroupTable
              app={app.key}
              measured={answer.data as GroupsOf<FiguresOf<Name>>}
              groups={groups}
              columns={columns(answer.data.whole)}
              small={small}
            />
          </section>
        )}
        {children(answer.data.whole)}
      </div>
      {figure && (
        <Evidence
          app={app.key}
          measure={address.get("of") ?? measure}
          figure={figure}
          counted={counted}
        />
      )}
    </>
  );
}
