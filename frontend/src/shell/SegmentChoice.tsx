import { useState } from "react";
import { Button, Dropdown, Form } from "react-bootstrap";
import type { AppSummary } from "../api/client";
import { useForget, useKeep, useKept, useVocabulary } from "../api/queries";
import { count, short, words } from "../format";
import { type Scope, useAddress } from "../scope/scope";
import { partsOf, type Segment, segmentWords, written } from "../scope/segment";
import { NameForm } from "./NameForm";
import { Trouble } from "./states";

const MARKS = [
  ...["landed_elsewhere", "piled_up", "ping_pong", "tab_mismatch", "gate_loop", "placeholder"],
  ...["unknown_screen", "not_found", "back_to_gate", "dead_end", "stuck", "bounce"],
];

/** Which journeys, beside the dates: parts that must all hold, each of which can be turned round. */
export function SegmentChoice({ app, scope }: { app: AppSummary; scope: Scope }) {
  const [, change] = useAddress();
  const [open, setOpen] = useState(false);
  const parts = partsOf(scope.segment);
  const choose = (next: Segment[]) => change({ segment: written(next), figure: null });
  const said = parts.map(segmentWords).join(" and ");
  return (
    <Dropdown show={open} onToggle={setOpen} autoClose="outside">
      <Dropdown.Toggle as="button" className="quiet clip" id="segment-choice" title={said}>
        {said ? <span className="fw-semibold">{short(said, 48)}</span> : "all journeys"}
      </Dropdown.Toggle>
      <Dropdown.Menu className="px-3 segment-menu">
        {parts.map((part, i) => (
          <div key={JSON.stringify(part)} className="d-flex gap-2 align-items-baseline">
            <span className="flex-grow-1">{segmentWords(part)}</span>
            <button
              type="button"
              className="figure-button"
              onClick={() => choose(parts.map((one, k) => (k === i ? turned(one) : one)))}
            >
              turn round
            </button>
            <button
              type="button"
              className="figure-button"
              aria-label={`take away ${segmentWords(part)}`}
              onClick={() => choose(parts.filter((_, k) => k !== i))}
            >
              take away
            </button>
          </div>
        ))}
        {parts.length > 1 && (
          <button
            type="button"
            className="figure-button"
            onClick={() => choose([{ any: parts }])}
            title="Journeys for which one of these holds"
          >
            one of these is enough
          </button>
        )}
        {parts.length > 0 && <Dropdown.Divider />}
        {open && <Adding app={app.key} onAdd={(part) => choose([...parts, part])} />}
        {open && <KeptSegments app={app.key} segment={scope.segment} onChoose={choose} />}
      </Dropdown.Menu>
    </Dropdown>
  );
}

function turned(part: Segment): Segment {
  return "not" in part ? part.not : { not: part };
}

/** One more part: a property's value, a screen seen, a mark, a kind of start, or users. */
function Adding({ app, onAdd }: { app: string; onAdd: (part: Segment) => void }) {
  const found = useVocabulary(app);
  const [kind, setKind] = useState("");
  if (found.isError) {
    return <Trouble problem={found.error} />;
  }
  const properties = found.data?.properties ?? [];
  const property = properties.find((one) => `property ${one.name}` === kind);
  const choices: [string, string][] = property
    ? property.values.map((value) => [value.name, `${value.name} · ${count(value.count)}`])
    : kind === "screen"
      ? (found.data?.screens ?? []).map((one) => [one.name, one.name])
      : kind === "mark"
        ? MARKS.map((mark) => [mark, words(mark)])
        : [
            ["cold", "cold"],
            ["warm", "warm"],
            ["link", "by a link"],
          ];
  const add = (value: string) => {
    setKind("");
    if (property) {
      onAdd({ property: property.name, values: [value] });
    } else if (kind === "screen") {
      onAdd({ screen: value });
    } else {
      onAdd(kind === "mark" ? { mark: value } : { start: value });
    }
  };
  return (
    <>
      <div className="d-flex gap-2">
        <Form.Select
          size="sm"
          aria-label="What to narrow by"
          value={kind}
          onChange={(event) => setKind(event.target.value)}
        >
          <option value="">only journeys …</option>
          {properties.map((one) => (
            <option key={one.name} value={`property ${one.name}`}>
              with {one.name} …
            </option>
          ))}
          <option value="screen">that saw a screen …</option>
          <option value="mark">with a mark …</option>
          <option value="start">that started …</option>
          <option value="users">of users …</option>
        </Form.Select>
        {kind && kind !== "users" && (
          <Form.Select
            size="sm"
            aria-label="Which"
            value=""
            onChange={(event) => event.target.value && add(event.target.value)}
          >
            <option value="">choose</option>
            {choices.map(([value, said]) => (
              <option key={value} value={value}>
                {said}
              </option>
            ))}
          </Form.Select>
        )}
      </div>
      {kind === "users" && (
        <Users
          onUsers={(users) => {
            setKind("");
            onAdd({ users });
          }}
        />
      )}
    </>
  );
}

function Users({ onUsers }: { onUsers: (users: string[]) => void }) {
  const [text, setText] = useState("");
  const users = text.split(/[\s,;]+/).filter(Boolean);
  return (
    <div className="mt-2">
      <Form.Control
        as="textarea"
        size="sm"
        rows={3}
        aria-label="Ids of users"
        placeholder="ids, with spaces, commas or lines between"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.stopPropagation()}
      />
      <Button size="sm" className="mt-1" disabled={!users.length} onClick={() => onUsers(users)}>
        Take {count(users.length, "user")}
      </Button>
    </div>
  );
}

interface KeptProps {
  app: string;
  segment: string | undefined;
  onChoose: (parts: Segment[]) => void;
}

function KeptSegments({ app, segment, onChoose }: KeptProps) {
  const kept = useKept(app, "segment");
  const keep = useKeep(app, "segment");
  const forget = useForget(app, "segment");
  const listed = kept.data ?? [];
  return (
    <>
      {(listed.length > 0 || segment) && <Dropdown.Divider />}
      {listed.map((one) => (
        <div key={one.id} className="d-flex gap-2 align-items-baseline">
          <button
            type="button"
            className="figure-button flex-grow-1 text-start"
            onClick={() => onChoose(partsOf(JSON.stringify(one.document)))}
          >
            {one.name}
          </button>
          <button
            type="button"
            className="figure-button"
            aria-label={`Forget ${one.name}`}
            onClick={() => forget.mutate(one.id)}
          >
            forget
          </button>
        </div>
      ))}
      {segment && (
        <NameForm
          label="Name to keep it under"
          placeholder="keep it as …"
          word="Keep"
          busy={keep.isPending}
          onName={(name) => keep.mutate({ name, document: JSON.parse(segment) })}
        />
      )}
      {keep.isError && <Trouble problem={keep.error} />}
    </>
  );
}
