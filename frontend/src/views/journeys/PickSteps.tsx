import { Link } from "react-router";
import type { Journey } from "../../api/client";
import { scopeSearch, useAddress } from "../../scope/scope";
import { patternOf } from "../patterns/proposals";

/** Steps are picked one by one, and what they have in common is looked for in all journeys. */
export function PickSteps({ journey, step }: { journey: Journey; step: number }) {
  const [address, change] = useAddress();
  const picked = (address.get("picked") ?? "")
    .split(",")
    .map(Number)
    .filter((one) => Number.isInteger(one) && one > 0 && one <= journey.trail.length);
  const has = picked.includes(step);
  const next = has ? picked.filter((one) => one !== step) : [...picked, step];
  return (
    <>
      <button
        type="button"
        className="figure-button"
        aria-pressed={has}
        onClick={() => change({ picked: next.join(",") || null })}
      >
        {has ? "put this step back" : "pick this step"}
      </button>
      {picked.length > 0 && (
        <Link
          to={{
            pathname: "/patterns",
            search: scopeSearch(address, { pattern: patternOf(journey.trail, picked) }),
          }}
        >
          find journeys with the {picked.length} picked
        </Link>
      )}
    </>
  );
}
