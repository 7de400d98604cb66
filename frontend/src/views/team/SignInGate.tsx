import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useSearchParams } from "react-router";
import { useSignIn } from "../../api/team";
import { Trouble } from "../../shell/states";
import { Gate, GateField } from "./Gate";

const REFUSED: Record<string, string> = {
  unreachable: "Where you sign in with your organisation cannot be reached just now.",
  failed: "Signing in with your organisation came to nothing. Try once more.",
  "not-verified": "Your organisation does not vouch for your e-mail address.",
  "no-account": "You have no account here yet. Ask someone who manages an app to let you in.",
};

/** Signing in: by e-mail and password, or where the organisation does. */
export function SignInGate({ provider }: { provider: boolean }) {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [address] = useSearchParams();
  const signIn = useSignIn();
  const refused = REFUSED[address.get("sign-in") ?? ""];
  return (
    <Gate title="Sign in">
      {refused && <Trouble problem={new Error(refused)} />}
      {provider && (
        <>
          <Button href="/api/sign-in/provider" className="w-100">
            With your organisation’s account
          </Button>
          <div className="soft small-text my-3">or with a password of this server</div>
        </>
      )}
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate({ email, password }, { onError: () => setPassword("") });
        }}
      >
        <GateField
          id="email"
          label="E-mail"
          type="email"
          autoComplete="username"
          autoFocus
          maxLength={254}
          value={email}
          onText={setEmail}
        />
        <GateField
          id="password"
          label="Password"
          type="password"
          autoComplete="current-password"
          maxLength={1024}
          value={password}
          onText={setPassword}
        />
        <Button
          type="submit"
          variant={provider ? "outline-primary" : "primary"}
          disabled={!email || !password || signIn.isPending}
        >
          Sign in
        </Button>
      </Form>
      {signIn.isError && <Trouble problem={signIn.error} />}
      <p className="soft small-text mt-4 mb-0">
        Lost the password? Someone who manages all apps can give you a link for another one.
      </p>
    </Gate>
  );
}
