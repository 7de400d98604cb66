import { useCallback, useEffect } from "react";
import { useKeepFinding, useKeptFindings } from "../api/queries";
import { type Scope, useAddress } from "../scope/scope";
import { partsOf, type Segment, written } from "../scope/segment";
import { isTyping } from "./keys";
import { useMay } from "./role";

interface Props {
  app: string;
  scope: Scope;
  measure: string;
  figure: string;
  /** What is kept of it in words; none while it is not known. */
  sentence: string;
}

/** Keeps the open figure for the report, by a click or by k. */
export function Keep({ app, scope, measure, figure, sentence }: Props) {
  const [address] = useAddress();
  const keep = useKeepFinding(app);
  const timed = address.get("timed") === "true";
  const own = inSegment(scope);
  const key = JSON.stringify(["own", measure, figure, timed, own]);
  const known = useKeptFindings(app).data?.some((one) => one.key === key && !one.dismissed);
  const may = useMay("work");
  const { mutate } = keep;
  const save = useCallback(() => {
    if (may && sentence && !known) {
      mutate({
        ...{ key, kind: "own", sentence, measure, figure, timed, where: "", beside: null },
        ...{ also: [], scope: JSON.parse(key)[4], dismissed: false, note: "" },
      });
    }
  }, [may, mutate, key, sentence, measure, figure, timed, known]);
  useEffect(() => {
    function onKey(event: KeyboardEvent) {
      const plain = !(event.ctrlKey || event.metaKey || event.altKey);
      if (event.key === "k" && plain && !isTyping(event)) {
        save();
      }
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [save]);
  return (
    <button
      type="button"
      className="figure-button"
      hidden={!may}
      disabled={known || keep.isPending}
      title={keep.isError ? keep.error.message : "For the report, under Findings (k)"}
      onClick={save}
    >
      {keep.isError ? "cannot be kept" : known ? "kept" : "keep"}
    </button>
  );
}

/** The scope with the group that a figure is of as a part of its segment. */
function inSegment({ part, part_by, part_over, ...scope }: Scope): Omit<Scope, "part"> {
  if (part === undefined || !(part_by || part_over)) {
    return scope;
  }
  const group: Segment = part_by
    ? { property: part_by, values: [part] }
    : { since: part, until: lastDay(part, part_over === "week" ? 7 : 1) };
  return { ...scope, segment: written([...partsOf(scope.segment), group]) };
}

function lastDay(first: string, days: number): string {
  return new Date(+new Date(first) + (days - 1) * 86_400_000).toISOString().slice(0, 10);
}
