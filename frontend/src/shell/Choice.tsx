interface Props<Key extends string> {
  /** What is chosen, for those who cannot see it. */
  label: string;
  choices: Record<Key, string>;
  chosen: Key;
  onChoose: (key: Key) => void;
}

/** One of a few, all of them to be seen. */
export function Choice<Key extends string>({ label, choices, chosen, onChoose }: Props<Key>) {
  return (
    <fieldset className="d-inline-flex flex-wrap column-gap-3 small-text" aria-label={label}>
      {(Object.keys(choices) as Key[]).map((key) => (
        <button
          key={key}
          type="button"
          className={`figure-button text-nowrap ${key === chosen ? "chosen" : ""}`}
          aria-pressed={key === chosen}
          onClick={() => onChoose(key)}
        >
          {choices[key]}
        </button>
      ))}
    </fieldset>
  );
}
