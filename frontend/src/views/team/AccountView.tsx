import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import type { Schemas } from "../../api/client";
import {
  type Role,
  useEndToken,
  useMe,
  useNewPassword,
  useNewToken,
  useSignOut,
  useTokens,
} from "../../api/team";
import { dateWithYear } from "../../format";
import { PlainTable } from "../../shell/PlainTable";
import { Raw } from "../../shell/Raw";
import { Trouble } from "../../shell/states";
import { SHORTEST_PASSWORD } from "./InvitedGate";

/** One's own: the way out, the password, and tokens for scripts. */
export function AccountView() {
  const me = useMe().data?.person;
  const signOut = useSignOut();
  if (!me) {
    return null;
  }
  return (
    <div className="view-body">
      <div className="column">
        <h1>You are signed in as {me.name}.</h1>
        <p>
          <span className="soft">{me.email}</span>{" "}
          <button
            type="button"
            className="figure-button ms-2"
            disabled={signOut.isPending}
            onClick={() => signOut.mutate(undefined)}
          >
            sign out
          </button>
        </p>
        <Tokens />
        <NewPassword has={me.has_password} />
      </div>
    </div>
  );
}

function Tokens() {
  const tokens = useTokens();
  const end = useEndToken();
  const [made, setMade] = useState<Schemas["MadeToken"] | null>(null);
  return (
    <>
      <h2 className="mt-4">Tokens, for scripts</h2>
      <p className="soft small-text mb-2">
        A script sends one as “Authorization: Bearer …” and may do what its role may, at most what
        you may. <a href="/api/openapi.json">All that can be asked</a> is described for programs.
      </p>
      <NewToken onMade={setMade} />
      {made && (
        <div className="commands mt-2" data-testid="token">
          This token is shown once:
          <Raw>{`curl -H 'Authorization: Bearer ${made.secret}' ${window.location.origin}/api/apps`}</Raw>
        </div>
      )}
      {Boolean(tokens.data?.length) && (
        <PlainTable className="mt-2" testid="tokens">
          <thead>
            <tr>
              <th>name</th>
              <th>role</th>
              <th>made</th>
              <th>ends</th>
              <th>
                <span className="visually-hidden">what can be done</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {tokens.data?.map((one) => (
              <tr key={one.id}>
                <td>{one.name}</td>
                <td>{one.role}</td>
                <td>{dateWithYear(one.made_at)}</td>
                <td>{dateWithYear(one.ends_at)}</td>
                <td className="text-end">
                  <button
                    type="button"
                    className="figure-button small-text"
                    aria-label={`End the token ${one.name}`}
                    onClick={() => end.mutate(one.id)}
                  >
                    end it
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      )}
    </>
  );
}

function NewToken({ onMade }: { onMade: (made: Schemas["MadeToken"]) => void }) {
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("read");
  const [days, setDays] = useState(90);
  const make = useNewToken();
  return (
    <>
      <Form
        className="d-flex gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate(
            { name: name.trim(), role, days },
            {
              onSuccess: (made) => {
                onMade(made);
                setName("");
              },
            },
          );
        }}
      >
        <Form.Control
          size="sm"
          aria-label="Name of the token"
          placeholder="what it is for"
          maxLength={100}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <Form.Select
          size="sm"
          className="short-choice"
          aria-label="Role of the token"
          value={role}
          onChange={(event) => setRole(event.target.value as Role)}
        >
          <option>read</option>
          <option>work</option>
          <option>manage</option>
        </Form.Select>
        <Form.Select
          size="sm"
          className="short-choice"
          aria-label="How long it holds"
          value={days}
          onChange={(event) => setDays(Number(event.target.value))}
        >
          <option value={7}>a week</option>
          <option value={90}>90 days</option>
          <option value={366}>a year</option>
        </Form.Select>
        <Button
          size="sm"
          type="submit"
          className="flex-shrink-0"
          disabled={!name.trim() || make.isPending}
        >
          Make one
        </Button>
      </Form>
      {make.isError && <Trouble problem={make.error} />}
    </>
  );
}

function NewPassword({ has }: { has: boolean }) {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const change = useNewPassword();
  return (
    <>
      <h2 className="mt-4">{has ? "Another password" : "A password"}</h2>
      <Form
        className="d-flex gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate(
            { old, new: next },
            {
              onSuccess: () => {
                setOld("");
                setNext("");
              },
            },
          );
        }}
      >
        {has && (
          <Form.Control
            size="sm"
            type="password"
            autoComplete="current-password"
            aria-label="Password until now"
            placeholder="until now"
            value={old}
            onChange={(event) => setOld(event.target.value)}
          />
        )}
        <Form.Control
          size="sm"
          type="password"
          autoComplete="new-password"
          aria-label="New password"
          placeholder={`new, ${SHORTEST_PASSWORD} letters at least`}
          value={next}
          onChange={(event) => setNext(event.target.value)}
        />
        <Button
          size="sm"
          type="submit"
          className="flex-shrink-0"
          disabled={next.length < SHORTEST_PASSWORD || (has && !old) || change.isPending}
        >
          Change
        </Button>
      </Form>
      {change.isSuccess && <p className="small-text">It is changed; all other sign-ins ended.</p>}
      {change.isError && <Trouble problem={change.error} />}
    </>
  );
}
