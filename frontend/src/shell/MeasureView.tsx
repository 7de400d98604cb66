import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import type { AppSummary } from "../api/client";
import { useAddress, useScope } from "../scope/scope";
import { Evidence } from "./Evidence";
import { Empty, Loading, Trouble } from "./states";

interface Props<Data> {
  app: AppSummary;
  measure: string;
  answer: UseQueryResult<Data>;
  /** What the page is for, told where there is nothing yet. */
  purpose: string;
  counted?: string;
  children: (found: Data) => ReactNode;
}

/** A view of one measure: waiting, broken, empty, or its figures with the journeys beside them. */
export function MeasureView<Data>(props: Props<Data>) {
  const { app, measure, answer, purpose, counted, children } = props;
  const scope = useScope();
  const [address] = useAddress();
  const figure = address.get("figure");
  if (answer.isPending) {
    return <Loading />;
  }
  if (answer.isError) {
    return <Trouble problem={answer.error} />;
  }
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then {purpose}.
      </Empty>
    );
  }
  return (
    <>
      <div className="view-body">{children(answer.data)}</div>
      {figure && (
        <Evidence app={app.key} scope={scope} measure={measure} figure={figure} counted={counted} />
      )}
    </>
  );
}
