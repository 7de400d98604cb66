import { useState } from "react";
import { Button, Dropdown, Form } from "react-bootstrap";
import { useNavigate } from "react-router";
import { type AppSummary, api, dataOf } from "../api/client";
import { useChange, useScopeCounts } from "../api/queries";
import { count, date, days, isoDay } from "../format";
import { type Scope, scopeSearch, useAddress, useScope } from "../scope/scope";
import { MenuItem } from "./MenuItem";
import { SegmentChoice } from "./SegmentChoice";

interface Props {
  app: AppSummary;
  apps: AppSummary[];
  /** Whoever is at the page may add some. */
  adds: boolean;
}

export function ScopeBar({ app, apps, adds }: Props) {
  const scope = useScope();
  const counts = useScopeCounts(app, scope);
  return (
    <header className="scope-bar">
      <AppChoice app={app} apps={apps} adds={adds} />
      <DateChoice app={app} scope={scope} />
      <SegmentChoice app={app} scope={scope} />
      <UnitChoice scope={scope} />
      <span className="remain" aria-live="polite">
        {counts.data &&
          `${count(counts.data.journeys, "journey")} · ${count(counts.data.users, "user")}`}
        {counts.data && <OddClocks scope={scope} journeys={counts.data.odd_clocks} />}
      </span>
    </header>
  );
}

/** Journeys of clocks that cannot be right are no part of any days: they are asked for by themselves. */
function OddClocks({ scope, journeys }: { scope: Scope; journeys: number }) {
  const [, change] = useAddress();
  if (!journeys && !scope.odd_clocks) {
    return null;
  }
  return (
    <>
      {" "}
      <button
        type="button"
        className={`figure-button ${scope.odd_clocks ? "chosen" : ""}`}
        aria-pressed={Boolean(scope.odd_clocks)}
        title="Their clock was never set, or stands in the future"
        onClick={() => change({ odd_clocks: scope.odd_clocks ? null : "true", figure: null })}
      >
        {scope.odd_clocks ? "with odd clocks" : `and ${count(journeys)} with odd clocks`}
      </button>
    </>
  );
}

function AppChoice({ app, apps, adds }: Props) {
  const [address] = useAddress();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [open, setOpen] = useState(false);
  const create = useChange(async (called: string) => {
    const made = await dataOf(api.POST("/api/apps", { body: { name: called } }));
    setName("");
    setOpen(false);
    navigate({ pathname: "/logs", search: `?app=${made.key}` });
  });
  return (
    <Dropdown show={open} onToggle={setOpen}>
      <Dropdown.Toggle as="button" className="quiet fw-semibold" id="app-choice">
        {app.name}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {apps.map((one) => (
          <MenuItem
            key={one.key}
            active={one.key === app.key}
            className="clip"
            style={{ maxWidth: "24rem" }}
            onClick={() => {
              const next = new URLSearchParams(scopeSearch(address));
              next.set("app", one.key);
              next.delete("since");
              next.delete("until");
              next.delete("segment");
              navigate({ search: `?${next}` });
            }}
          >
            {one.name} <span className="small-text">{count(one.rows, "row")}</span>
          </MenuItem>
        ))}
        {adds && (
          <>
            <Dropdown.Divider />
            <Form
              className="px-3 py-1 d-flex gap-2"
              onSubmit={(event) => {
                event.preventDefault();
                if (name.trim()) {
                  create.mutate(name);
                }
              }}
            >
              <Form.Control
                size="sm"
                placeholder="Name of another app"
                aria-label="Name of another app"
                maxLength={200}
                value={name}
                onChange={(event) => setName(event.target.value)}
                onKeyDown={(event) => event.stopPropagation()}
              />
              <Button size="sm" type="submit" disabled={!name.trim() || create.isPending}>
                Add
              </Button>
            </Form>
          </>
        )}
      </Dropdown.Menu>
    </Dropdown>
  );
}

function DateChoice({ app, scope }: { app: AppSummary; scope: Scope }) {
  const [, change] = useAddress();
  if (app.first === null || app.last === null) {
    return <span className="soft px-2">no dates yet</span>;
  }
  const first = scope.since ?? isoDay(app.first);
  const last = scope.until ?? isoDay(app.last);
  const weeks = [7, 14].map((length) => {
    const since = isoDay((app.last ?? 0) - (length - 1) * 86_400_000);
    return { since, words: `last ${length} days` };
  });
  return (
    <Dropdown>
      <Dropdown.Toggle as="button" className="quiet" id="date-choice">
        {days(Date.parse(first), Date.parse(last))}
      </Dropdown.Toggle>
      <Dropdown.Menu className="px-3">
        <div className="d-flex gap-2 mb-2">
          <Day
            key={`first ${first}`}
            label="First day"
            day={first}
            fits={(day) => day <= last}
            onDay={(day) => change({ since: day })}
          />
          <Day
            key={`last ${last}`}
            label="Last day"
            day={last}
            fits={(day) => day >= first}
            onDay={(day) => change({ until: day })}
          />
        </div>
        {weeks.map((week) => (
          <MenuItem key={week.words} onClick={() => change({ since: week.since, until: null })}>
            {week.words}
          </MenuItem>
        ))}
        <MenuItem onClick={() => change({ since: null, until: null })}>
          all, {date(app.first)} – {date(app.last)}
        </MenuItem>
        <div className="small-text soft pt-1">Journeys that begin on these days, in UTC</div>
      </Dropdown.Menu>
    </Dropdown>
  );
}

interface DayProps {
  label: string;
  day: string;
  fits: (day: string) => boolean;
  onDay: (day: string) => void;
}

/** A day that is taken when it is whole: at Enter, or when the field is left. */
function Day({ label, day, fits, onDay }: DayProps) {
  const [typed, setTyped] = useState(day);
  const sound = /^(19[7-9]|20|21)/.test(typed) && fits(typed);
  const take = () => {
    if (!sound) {
      setTyped(day);
    } else if (typed !== day) {
      onDay(typed);
    }
  };
  return (
    <Form.Control
      size="sm"
      type="date"
      aria-label={label}
      isInvalid={!sound}
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={take}
      onKeyDown={(event) => event.key === "Enter" && take()}
    />
  );
}

function UnitChoice({ scope }: { scope: Scope }) {
  const [, change] = useAddress();
  return (
    <Dropdown>
      <Dropdown.Toggle as="button" className="quiet" id="unit-choice">
        count <span className="fw-semibold">{scope.unit}</span>
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {(["sessions", "users"] as const).map((unit) => (
          <MenuItem
            key={unit}
            active={unit === scope.unit}
            onClick={() => change({ unit: unit === "sessions" ? null : unit, figure: null })}
          >
            {unit}
          </MenuItem>
        ))}
      </Dropdown.Menu>
    </Dropdown>
  );
}
