import { useState } from "react";
import { Button, Form } from "react-bootstrap";

interface Props {
  label: string;
  placeholder: string;
  /** What the button says. */
  word: string;
  busy: boolean;
  onName: (name: string) => void;
}

/** A name for something that is kept. */
export function NameForm({ label, placeholder, word, busy, onName }: Props) {
  const [name, setName] = useState("");
  return (
    <Form
      className="d-flex gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (name.trim()) {
          onName(name.trim());
          setName("");
        }
      }}
    >
      <Form.Control
        size="sm"
        aria-label={label}
        placeholder={placeholder}
        maxLength={200}
        value={name}
        onChange={(event) => setName(event.target.value)}
        onKeyDown={(event) => event.stopPropagation()}
      />
      <Button size="sm" type="submit" className="flex-shrink-0" disabled={!name.trim() || busy}>
        {word}
      </Button>
    </Form>
  );
}
