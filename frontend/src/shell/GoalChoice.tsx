import { Form } from "react-bootstrap";
import { useVocabulary } from "../api/queries";
import { useAddress } from "../scope/scope";

/** A screen to be reached, of those of the app. */
export function GoalChoice({ app, none }: { app: string; none: string }) {
  const [address, change] = useAddress();
  const found = useVocabulary(app);
  const screens = (found.data?.screens ?? []).map((one) => one.name).sort();
  return (
    <Form.Select
      size="sm"
      className="in-row"
      aria-label="A screen to be reached"
      value={address.get("goal") ?? ""}
      onChange={(event) => change({ goal: event.target.value, figure: null })}
    >
      <option value="">{none}</option>
      {screens.map((screen) => (
        <option key={screen}>{screen}</option>
      ))}
    </Form.Select>
  );
}
