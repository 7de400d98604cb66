import type { Journey, Mark, Move, Step, StepDetail } from "../../api/client";
import { useStep } from "../../api/queries";
import { count, duration, exactTime, params, short, words } from "../../format";
import { PlainTable } from "../../shell/PlainTable";
import { Raw } from "../../shell/Raw";
import { Trouble } from "../../shell/states";

const SLIPS_SHOWN = 8;
const ROWS_SHOWN = 60;

interface Props {
  app: string;
  journey: Journey;
  step: number;
}

/** The stack at one step as a pile of slips, and the step's rows as they came. */
export function StepPanel({ app, journey, step }: Props) {
  const detail = useStep(app, journey.key, step);
  const shown = journey.trail[step - 1];
  if (!shown) {
    return null;
  }
  return (
    <div className="step-panel" data-testid="step" data-step={step} data-depth={shown.depth}>
      <section>
        <h2>
          Step {count(step)} of {count(journey.steps)} · {moveWords(shown)}
        </h2>
        <Marks step={shown} />
        {detail.data && <Pile detail={detail.data} />}
      </section>
      <section className="min-w-0">
        <h2>Its rows, as they came</h2>
        {detail.isError && <Trouble problem={detail.error} />}
        {detail.data && <Rows detail={detail.data} />}
        <p className="small-text soft mb-0">{timesOf(shown)}</p>
      </section>
    </div>
  );
}

const MOVE_WORDS: Record<string, string> = {
  start: "the first screen",
  push: "went in",
  pop: "went back",
  pop_to: "went back several",
  replace: "took the place of the one before",
  reset: "the app was put afresh here",
  switch_tab: "chose a tab",
  open_modal: "a sheet was opened",
  close_modal: "the sheet was closed",
  update: "same screen, other contents",
  forward: "went forward again",
  redirect: "was sent here",
  link: "landed by a link",
} satisfies Record<Move, string>;

function moveWords(step: Step): string {
  const wanted = step.wanted ? ` instead of ${short(step.wanted, 40)}` : "";
  return `${MOVE_WORDS[step.move] ?? step.move}${wanted}${step.unsure ? " (inferred, and unsure)" : step.inferred ? " (inferred)" : ""}`;
}

const MARK_WORDS: Record<string, (step: Step) => string> = {
  landed_elsewhere: () => "the move came out elsewhere than on what the stack held",
  piled_up: (step) => `${step.screen} already lies on this stack: this is no way back, it piles up`,
  ping_pong: () => "back and forth between two screens",
  tab_mismatch: (step) => `the app reports the tab ${step.tab_reported}, but this is ${step.tab}`,
  gate_loop: () => "sent back to a screen from which it had been sent away: a loop of redirects",
  placeholder: () => "the link holds a value that was never filled in",
  back_to_gate: () => "from here, back leads to the splash, onboarding or sign-in",
  dead_end: () => "the journey ends here, and on this platform nobody has ever gone on from here",
  stuck: () => "three or more repeats, refused moves or backs without effect",
  unknown_screen: () => "this name is not in the app map",
  not_found: () => "the screen for what was not found",
  bounce: () => "left within a second",
} satisfies Record<Mark, (step: Step) => string>;

function Marks({ step }: { step: Step }) {
  return step.marks.map((mark) => (
    <p className="small-text mb-1" key={mark}>
      <span className="mark-word fw-semibold">{words(mark)}</span>:{" "}
      {MARK_WORDS[mark]?.(step) ?? words(mark)}
    </p>
  ));
}

function Pile({ detail }: { detail: StepDetail }) {
  const shown = detail.stack.slice(0, SLIPS_SHOWN);
  const more = detail.stack.length - shown.length;
  return (
    <>
      <ol className="slips" aria-label="What back would reveal, from the top">
        {shown.map((slip, i) => (
          <li
            // biome-ignore lint/suspicious/noArrayIndexKey: slips are told apart by their place
            key={i}
            className={`${slip.region} clip`}
            style={{ marginLeft: Math.min(i, 8) * 8 }}
            title={`${slip.screen} ${params(slip.params)}`}
          >
            {slip.screen}{" "}
            {slip.params && <span className="small-text fw-normal">{params(slip.params)}</span>}
            {slip.region !== "tab" && (
              <span className="small-text fw-normal soft float-end ps-2">{slip.region}</span>
            )}
          </li>
        ))}
      </ol>
      {more > 0 && <div className="small-text soft">and {count(more)} more below</div>}
      {detail.resting.map((pile) => (
        <div className="small-text mt-1 clip" key={pile.tab}>
          <span className="soft">resting:</span> <span className="fw-semibold">{pile.tab}</span>{" "}
          {pile.stack.map((slip) => slip.screen).join(" on ")}
        </div>
      ))}
    </>
  );
}

function Rows({ detail }: { detail: StepDetail }) {
  const shown = detail.rows.slice(0, ROWS_SHOWN);
  return (
    <div className="rows">
      <PlainTable className="mb-1">
        <thead>
          <tr>
            <th className="n">line</th>
            <th>time</th>
            <th>event</th>
            <th>screen</th>
            <th>became</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((row) => (
            <tr key={`${row.file}:${row.line}`} title={row.raw}>
              <td className="n" title={row.file}>
                {count(row.line)}
              </td>
              <td>{exactTime(row.time)}</td>
              <td>{short(`${row.event}${row.outcome ? ` ${row.outcome}` : ""}`, 30)}</td>
              <td>{short(row.screen ?? "", 24)}</td>
              <td className="soft">{FATE_WORDS[row.fate]}</td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
      <Raw>{shown.map((row) => row.raw).join("\n")}</Raw>
      {detail.rows.length > shown.length && (
        <div className="small-text soft">and {count(detail.rows.length - shown.length)} more</div>
      )}
    </div>
  );
}

const FATE_WORDS: Record<StepDetail["rows"][number]["fate"], string> = {
  made: "the step",
  merged: "merged into it",
  doubled: "the view, doubled",
  repeated: "the view, repeated",
  resent: "a row sent again",
  kept: "kept on it",
};

function timesOf(step: Step): string {
  const parts = [`shown ${exactTime(step.time)}`];
  if (step.load_ms !== null) {
    parts.push(`${duration(step.load_ms)} after it was asked for`);
  }
  parts.push(
    step.dwell_ms === null
      ? "how long it stayed is not known"
      : `stayed ${duration(step.dwell_ms)}`,
  );
  if (step.repeats) {
    parts.push(`shown again ${count(step.repeats, "time")}`);
  }
  return `${parts.join(", ")}.`;
}
