import { useState } from "react";
import { Form } from "react-bootstrap";
import type { Vocabulary } from "../../api/client";
import type { TrackTools } from "../../charts/FunnelTrack";
import { count, short, words } from "../../format";
import { clauseOf, clauseWords, KINDS, type Kind, ORDERS, type Spec, type Written } from "./spec";

interface Props {
  spec: Written;
  vocabulary: Vocabulary;
  /** Those that are kept: a stage may be the end of one. */
  patterns: KeptPattern[];
  onChange: (spec: Written) => void;
}

interface KeptPattern {
  name: string;
  pattern: string;
}

const ROLES = [
  ...["splash", "onboarding", "sign_in", "sign_up", "recovery", "content", "sheet", "menu"],
  ...["error", "not_found"],
];
const TRIES = ["sign_in", "sign_up"];

const MOST = 16;

/** The first stage, picked from what the log holds. */
export function FirstStage({ vocabulary, patterns, onChange }: Props) {
  return (
    <Pick
      label="The first stage"
      said="first …"
      vocabulary={vocabulary}
      patterns={patterns}
      onPick={(clause) => onChange({ stages: [{ any: [clause] }] })}
    />
  );
}

/** Stages are changed, moved, and put in on the track itself. */
export function toolsOf(props: Props): TrackTools {
  const { stages } = props.spec;
  const { vocabulary, patterns } = props;
  const replaced = (next: Written["stages"]) =>
    props.onChange({ ...props.spec, stages: next.filter((stage) => stage.any.length > 0) });
  return {
    stage: (i) => <StageTools {...props} i={i} onReplace={replaced} />,
    insert: (at) =>
      stages.length < MOST && (
        <Pick
          label={at === stages.length ? "The next stage" : `A stage before stage ${at + 1}`}
          said={at === stages.length ? "then …" : "+"}
          vocabulary={vocabulary}
          patterns={patterns}
          onPick={(clause) =>
            replaced([...stages.slice(0, at), { any: [clause] }, ...stages.slice(at)])
          }
        />
      ),
  };
}

interface ToolsProps extends Props {
  i: number;
  onReplace: (stages: Written["stages"]) => void;
}

function StageTools({ spec, vocabulary, patterns, i, onReplace }: ToolsProps) {
  const { stages } = spec;
  const any = stages[i]?.any ?? [];
  const changed = (next: Written["stages"][number]["any"]) =>
    onReplace(stages.map((one, at) => (at === i ? { any: next } : one)));
  const moved = (to: number) => {
    const next = [...stages];
    next.splice(to, 0, ...next.splice(i, 1));
    onReplace(next);
  };
  return (
    <>
      <Pick
        label={`Or, for stage ${i + 1}`}
        said="or …"
        vocabulary={vocabulary}
        patterns={patterns}
        onPick={(clause) => changed([...any, clause])}
      />
      {i > 0 && <Tool label={`Stage ${i + 1} one earlier`} said="←" onUse={() => moved(i - 1)} />}
      {i + 1 < stages.length && (
        <Tool label={`Stage ${i + 1} one later`} said="→" onUse={() => moved(i + 1)} />
      )}
      <Tool label={`Take away stage ${i + 1}`} said="×" onUse={() => changed([])} />
      {any.length > 1 &&
        any.map((clause, k) => (
          <Tool
            // biome-ignore lint/suspicious/noArrayIndexKey: two conditions may be alike
            key={k}
            label={`Take away ${clauseWords(clause)}`}
            said={`× ${short(clauseWords(clause), 16)}`}
            onUse={() => changed(any.filter((_, at) => at !== k))}
          />
        ))}
    </>
  );
}

function Tool({ label, said, onUse }: { label: string; said: string; onUse: () => void }) {
  return (
    <button
      type="button"
      className="figure-button"
      aria-label={label}
      title={label}
      onClick={onUse}
    >
      {said}
    </button>
  );
}

interface PickProps {
  label: string;
  said: string;
  vocabulary: Vocabulary;
  patterns: KeptPattern[];
  onPick: (clause: ReturnType<typeof clauseOf>) => void;
}

/** One choice of all that the log holds, grouped by kind. */
function Pick({ label, said, vocabulary, patterns, onPick }: PickProps) {
  const choices: Record<Kind, { name: string; said: string }[]> = {
    screens: listed(vocabulary.screens),
    roles: ROLES.map((role) => ({ name: role, said: words(role) })),
    tabs: listed(vocabulary.tabs),
    moves: listed(vocabulary.moves, words),
    event: vocabulary.events.flatMap((one) => [
      { name: one.name, said: `${words(one.name)} · ${count(one.count)}` },
      ...(TRIES.includes(one.name)
        ? ["ok", "failed"].map((end) => ({
            name: `${one.name} ${end}`,
            said: `${words(one.name)} ${end}`,
          }))
        : []),
    ]),
    pattern: patterns.map((one) => ({ name: one.pattern, said: one.name })),
  };
  return (
    <Form.Select
      size="sm"
      className="in-row fresh"
      aria-label={label}
      value=""
      onChange={(event) => {
        const [kind = "", ...value] = event.target.value.split(":");
        onPick(clauseOf(kind as Kind, value.join(":")));
      }}
    >
      <option value="">{said}</option>
      {(Object.keys(KINDS) as Kind[]).map((kind) => (
        <optgroup key={kind} label={KINDS[kind]}>
          {choices[kind].map((choice) => (
            <option key={choice.name} value={`${kind}:${choice.name}`}>
              {choice.said}
            </option>
          ))}
        </optgroup>
      ))}
    </Form.Select>
  );
}

function listed(some: Vocabulary["screens"], say: (name: string) => string = (name) => name) {
  return some.map((one) => ({ name: one.name, said: `${say(one.name)} · ${count(one.count)}` }));
}

const WINDOWS: [string, number][] = [
  ["5 minutes", 300],
  ["30 minutes", 1800],
  ["1 day", 86_400],
  ["7 days", 604_800],
  ["28 days", 2_419_200],
];

/** How stages are matched and counted. */
export function Options({ spec, vocabulary, onChange }: Props) {
  const [voids, setVoids] = useState(spec.void?.join(", ") ?? "");
  const held = [...new Set([...vocabulary.properties.map((one) => one.name)])];
  return (
    <div className="d-flex flex-wrap gap-2 align-items-center small-text">
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="Order of the stages"
        value={spec.order ?? "in_order"}
        onChange={(event) =>
          onChange({
            ...spec,
            order: event.target.value as Spec["order"],
            first_ever: spec.first_ever && event.target.value !== "any",
          })
        }
      >
        {Object.entries(ORDERS).map(([order, said]) => (
          <option key={order} value={order}>
            {said}
          </option>
        ))}
      </Form.Select>
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="Within"
        value={spec.window ?? ""}
        onChange={(event) => onChange({ ...spec, window: Number(event.target.value) || null })}
      >
        <option value="">{spec.first_ever ? "however long" : "within a session"}</option>
        {WINDOWS.map(([said, seconds]) => (
          <option key={seconds} value={seconds}>
            within {said}, across sessions
          </option>
        ))}
      </Form.Select>
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="What is counted"
        value={spec.count ?? "unit"}
        onChange={(event) => onChange({ ...spec, count: event.target.value as Spec["count"] })}
      >
        <option value="unit">count as the scope says</option>
        <option value="attempts" disabled={spec.first_ever}>
          count attempts
        </option>
      </Form.Select>
      <Form.Check
        id="first-ever"
        label="from the user's first ever"
        title="One match of each user, from their first time at the first stage, across sessions"
        checked={spec.first_ever ?? false}
        disabled={spec.order === "any" || spec.count === "attempts"}
        onChange={(event) => onChange({ ...spec, first_ever: event.target.checked })}
      />
      <Form.Control
        size="sm"
        className="in-row fresh"
        style={{ width: "13rem" }}
        aria-label="Screens that void an attempt"
        placeholder="void after screens …"
        value={voids}
        onChange={(event) => setVoids(event.target.value)}
        onBlur={() =>
          onChange({
            ...spec,
            void: voids
              .split(",")
              .map((one) => one.trim())
              .filter(Boolean),
          })
        }
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      />
      <Form.Control
        size="sm"
        className="in-row fresh"
        style={{ width: "13rem" }}
        aria-label="Held the same"
        placeholder="same param or property …"
        list="held-names"
        defaultValue={spec.held ?? ""}
        onBlur={(event) => onChange({ ...spec, held: event.target.value.trim() })}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      />
      <datalist id="held-names">
        {held.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
    </div>
  );
}
