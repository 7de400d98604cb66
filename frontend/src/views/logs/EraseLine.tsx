import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { api, dataOf } from "../../api/client";
import { useChange } from "../../api/queries";
import { count } from "../../format";
import { Trouble } from "../../shell/states";

/** Erasing all that the logs hold of one person, who has asked for it. */
export function EraseLine({ app }: { app: string }) {
  const [open, setOpen] = useState(false);
  const [user, setUser] = useState("");
  const [told, setTold] = useState("");
  const erase = useChange(async (id: string) => {
    const params = { path: { app }, query: { user: id } };
    const erased = await dataOf(api.DELETE("/api/apps/{app}/users", { params }));
    const held = erased.not_landed
      ? ` ${count(erased.not_landed, "import")} that did not land may still name them: dismiss what you do not need.`
      : "";
    setTold(`${count(erased.rows + erased.set_aside, "row")} of ${id} erased.${held}`);
    setUser("");
  });
  return (
    <div className="small-text mt-1 column">
      {open ? (
        <Form
          className="d-flex gap-2 align-items-center"
          onSubmit={(event) => {
            event.preventDefault();
            erase.mutate(user);
          }}
        >
          <Form.Control
            size="sm"
            autoFocus
            style={{ width: "20rem" }}
            placeholder="The user's id, as the logs have it"
            aria-label="User to erase"
            value={user}
            onChange={(event) => {
              setUser(event.target.value);
              setTold("");
            }}
          />
          <Button size="sm" variant="danger" type="submit" disabled={!user || erase.isPending}>
            Erase for good
          </Button>
          <button type="button" className="quiet" onClick={() => setOpen(false)}>
            close
          </button>
          <span role="status">{told}</span>
        </Form>
      ) : (
        <button type="button" className="figure-button" onClick={() => setOpen(true)}>
          erase a user's data
        </button>
      )}
      {erase.isError && <Trouble problem={erase.error} />}
    </div>
  );
}
