import { Form } from "react-bootstrap";
import { useVocabulary } from "../../api/queries";
import { EXIT_WORDS, words } from "../../format";
import { useAddress } from "../../scope/scope";
import { Choice } from "../../shell/Choice";
import { type Asked, asAddress, DEEPEST } from "./asked";

/** Where paths begin, which way they lead, how far, and how they are read. */
export function PathChoices({ app, asked }: { app: string; asked: Asked }) {
  const [, change] = useAddress();
  const vocabulary = useVocabulary(app).data;
  const ask = (more: Partial<Asked>) => change(asAddress({ ...asked, ...more }));
  const screens = (vocabulary?.screens ?? []).map((one) => one.name).sort();
  const events = (vocabulary?.events ?? []).map((one) => one.name);
  const [at, what] = [asked.at, asked.what];
  const turns = at === "screen" || at === "event";
  return (
    <div className="d-flex flex-wrap column-gap-4 row-gap-1 align-items-center mb-2">
      <Form.Select
        size="sm"
        className="in-row"
        aria-label="Where paths begin"
        value={at === "exit" && !what && asked.screen ? `end:${asked.screen}` : `${at}:${what}`}
        onChange={(event) => {
          const [chosen = "", ...named] = event.target.value.split(":");
          const next = chosen === "end" ? "exit" : chosen;
          const name = named.join(":");
          const forward = next === "exit" ? "backward" : next === "entry" ? "forward" : null;
          ask({
            at: next as Asked["at"],
            what: chosen === "end" ? "" : name,
            screen: chosen === "end" ? name : "",
            ...(forward && { direction: forward }),
          });
        }}
      >
        <optgroup label="how journeys start">
          <option value="entry:">any start</option>
          <option value="entry:cold">a cold start</option>
          <option value="entry:warm">a warm start</option>
          <option value="entry:link">a start by a link</option>
        </optgroup>
        <optgroup label="how journeys end">
          <option value="exit:">any end</option>
          {Object.entries(EXIT_WORDS).map(([exit, word]) => (
            <option key={exit} value={`exit:${exit}`}>
              {word}
            </option>
          ))}
        </optgroup>
        <optgroup label="the end, on">
          {at === "exit" && <Known value={asked.screen} among={screens} kind="end" />}
          {screens.map((screen) => (
            <option key={screen} value={`end:${screen}`}>
              the end on {screen}
            </option>
          ))}
        </optgroup>
        <optgroup label="the first time on">
          <Known value={at === "screen" ? what : ""} among={screens} kind="screen" />
          {screens.map((screen) => (
            <option key={screen} value={`screen:${screen}`}>
              {screen}
            </option>
          ))}
        </optgroup>
        <optgroup label="the first event">
          <Known value={at === "event" ? what : ""} among={events} kind="event" />
          {events.map((event) => (
            <option key={event} value={`event:${event}`}>
              {words(event)}
            </option>
          ))}
        </optgroup>
      </Form.Select>
      {at !== "screen" && (
        <Form.Select
          size="sm"
          className="in-row"
          aria-label="On which screen that is"
          value={asked.screen}
          onChange={(event) => ask({ screen: event.target.value })}
        >
          <option value="">on any screen</option>
          {screens.map((screen) => (
            <option key={screen} value={screen}>
              on {screen}
            </option>
          ))}
        </Form.Select>
      )}
      {turns && (
        <Choice
          label="Which way"
          choices={{ forward: "onward from it", backward: "what leads to it" }}
          chosen={asked.direction}
          onChoose={(direction) => ask({ direction })}
        />
      )}
      <Choice
        label="Which steps"
        choices={{ walked: "as walked", kept: "as kept" }}
        chosen={asked.reading}
        onChoose={(reading) => ask({ reading })}
      />
      <Choice
        label="What the nodes are"
        choices={{ screen: "screens", role: "roles", tab: "tabs" }}
        chosen={asked.nodes}
        onChoose={(nodes) => ask({ nodes })}
      />
      <Choice
        label="Like nodes in a row"
        choices={{ false: "like ones as one", true: "each apart" }}
        chosen={asked.repeats ? "true" : "false"}
        onChoose={(repeats) => ask({ repeats: repeats === "true" })}
      />
      <fieldset className="d-inline-flex gap-2 small-text" aria-label="How far">
        <button
          type="button"
          className="figure-button"
          aria-label="one node less"
          disabled={asked.deep <= 1}
          onClick={() => ask({ deep: asked.deep - 1 })}
        >
          −
        </button>
        {asked.deep} deep
        <button
          type="button"
          className="figure-button"
          aria-label="one node more"
          disabled={asked.deep >= DEEPEST}
          onClick={() => ask({ deep: asked.deep + 1 })}
        >
          +
        </button>
      </fieldset>
    </div>
  );
}

/** What is asked for, where it is not among those that are listed. */
function Known({ value, among, kind }: { value: string; among: string[]; kind: string }) {
  return value && !among.includes(value) ? (
    <option value={`${kind}:${value}`}>{value}</option>
  ) : null;
}
