import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useLocation } from "react-router";
import { useAccept, useInvitation } from "../../api/team";
import { Loading, Trouble } from "../../shell/states";
import { Gate, GateField } from "./Gate";

export const SHORTEST_PASSWORD = 12;

/** Where an invitation's link leads: a name and a password, and one is in. */
export function InvitedGate() {
  const [secret] = useState(useLocation().hash.slice(1));
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const invitation = useInvitation(secret);
  const accept = useAccept();
  if (invitation.isPending) {
    return <Loading what="Opening" />;
  }
  if (invitation.isError) {
    return (
      <Gate title="This link leads nowhere">
        <Trouble problem={invitation.error} />
        <a href="/">To the page where one signs in</a>
      </Gate>
    );
  }
  return (
    <Gate title="You are invited">
      <p className="soft clip">as {invitation.data.email}</p>
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          accept.mutate({ secret, name, password });
        }}
      >
        <input type="hidden" autoComplete="username" value={invitation.data.email} readOnly />
        <GateField
          id="name"
          label="Your name, as others will see it"
          autoComplete="name"
          autoFocus
          maxLength={100}
          value={name}
          onText={setName}
        />
        <GateField
          id="password"
          label={`A password, of ${SHORTEST_PASSWORD} letters at least`}
          hint="A few words that only you put together will do."
          type="password"
          autoComplete="new-password"
          minLength={SHORTEST_PASSWORD}
          maxLength={1024}
          value={password}
          onText={setPassword}
        />
        <Button
          type="submit"
          disabled={!name.trim() || password.length < SHORTEST_PASSWORD || accept.isPending}
        >
          Come in
        </Button>
      </Form>
      {accept.isError && <Trouble problem={accept.error} />}
    </Gate>
  );
}
