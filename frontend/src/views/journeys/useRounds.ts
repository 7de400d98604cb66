import type { Schemas } from "../../api/client";
import { useLoopsOf } from "../../api/queries";
import { useAddress } from "../../scope/scope";
import { cell } from "../inside";

/** A loop of a journey; `asked` for, if it is the one whose figure is open. */
export type Round = Schemas["Round"] & { asked: boolean };

export function useRounds(app: string, journey: string): Round[] {
  const [address] = useAddress();
  const open = address.get("measure") === "loops" ? cell(address.get("figure") ?? "") : [];
  const wanted = JSON.stringify(open.slice(1));
  return (useLoopsOf(app, journey).data ?? []).map((one) => ({
    ...one,
    asked: JSON.stringify([one.kind, ...one.screens]) === wanted,
  }));
}
