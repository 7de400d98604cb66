import type { ReactNode } from "react";
import { Form, type FormControlProps } from "react-bootstrap";

/** The one page that is there before someone is in: what is asked of them, beside the hills. */
export function Gate({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="gate">
      <div className="gate-form">
        <div className="gate-name">Mossy Trail</div>
        <h1>{title}</h1>
        {children}
      </div>
      <svg
        className="gate-hills"
        viewBox="0 -60 400 360"
        preserveAspectRatio="xMidYMax slice"
        aria-hidden="true"
      >
        <path className="far" d="M0 210 70 120l48 46 66-104 70 92 52-44 94 100v90H0z" />
        <path className="near" d="M0 262 88 196l66 40 84-86 76 74 86-40v116H0z" />
        <path className="way" d="M66 300c30-36 96-26 118-52s-22-30 8-56 44-18 46-42" />
        <circle className="here" cx="238" cy="150" r="5" />
      </svg>
    </main>
  );
}

interface FieldProps extends Omit<FormControlProps, "id"> {
  id: string;
  label: string;
  hint?: string;
  onText: (text: string) => void;
}

/** A line to fill in at the door. */
export function GateField({ id, label, hint, onText, ...field }: FieldProps) {
  return (
    <Form.Group className="mb-3" controlId={id}>
      <Form.Label>{label}</Form.Label>
      <Form.Control required onChange={(event) => onText(event.target.value)} {...field} />
      {hint && <Form.Text>{hint}</Form.Text>}
    </Form.Group>
  );
}
