import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import type { AppSummary, Schemas } from "../../api/client";
import {
  type Member,
  type Role,
  useAddMember,
  useChangeRole,
  useDeeds,
  useEndAccount,
  useGiveLink,
  useMe,
  useMembers,
  useRemoveMember,
} from "../../api/team";
import { count, date, time } from "../../format";
import { PlainTable } from "../../shell/PlainTable";
import { Raw } from "../../shell/Raw";
import { Loading, Trouble } from "../../shell/states";

const MAY: Record<Role, string> = {
  read: "read: look, open, export",
  work: "work: bring in, keep, change the map",
  manage: "manage: erase, let people in",
};

/** Who may do what with an app, and what was done with it. */
export function PeopleView({ app }: { app: AppSummary }) {
  const members = useMembers(app.key);
  const me = useMe().data?.person;
  const [given, setGiven] = useState<Schemas["LinkView"] | null>(null);
  if (members.isPending) {
    return <Loading what="Reading" />;
  }
  if (members.isError) {
    return <Trouble problem={members.error} />;
  }
  return (
    <div className="view-body">
      <div className="column">
        <h1>{count(members.data.length, "person", "people")} may look into this app.</h1>
        <AddMember app={app.key} onGiven={setGiven} />
        {given && <Given given={given} />}
        <PlainTable className="align-middle" testid="members">
          <thead>
            <tr>
              <th>name</th>
              <th>e-mail</th>
              <th>role</th>
              <th>
                <span className="visually-hidden">what can be done</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {members.data.map((one) => (
              <MemberRow
                key={one.id}
                app={app.key}
                member={one}
                everything={Boolean(me?.manages_all)}
                own={one.email === me?.email}
                onGiven={setGiven}
              />
            ))}
          </tbody>
        </PlainTable>
        <Deeds app={app.key} />
      </div>
    </div>
  );
}

interface AddProps {
  app: string;
  onGiven: (given: Schemas["LinkView"]) => void;
}

function AddMember({ app, onGiven }: AddProps) {
  const [email, setEmail] = useState("");
  const [role, setRole] = useState<Role>("read");
  const add = useAddMember(app);
  return (
    <>
      <Form
        className="d-flex gap-2 my-3"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate(
            { email, role },
            {
              onSuccess: (given) => {
                onGiven(given);
                setEmail("");
              },
            },
          );
        }}
      >
        <Form.Control
          size="sm"
          type="email"
          aria-label="E-mail of whom to let in"
          placeholder="name@example.org"
          maxLength={254}
          value={email}
          onChange={(event) => setEmail(event.target.value)}
        />
        <RoleChoice label="Their role" role={role} onRole={setRole} />
        <Button
          size="sm"
          type="submit"
          className="flex-shrink-0"
          disabled={!email || add.isPending}
        >
          Let in
        </Button>
      </Form>
      {add.isError && <Trouble problem={add.error} />}
    </>
  );
}

function RoleChoice(props: { label: string; role: Role; onRole: (role: Role) => void }) {
  return (
    <Form.Select
      size="sm"
      className="role-choice"
      aria-label={props.label}
      value={props.role}
      onChange={(event) => props.onRole(event.target.value as Role)}
    >
      {Object.entries(MAY).map(([role, says]) => (
        <option key={role} value={role}>
          {says}
        </option>
      ))}
    </Form.Select>
  );
}

function Given({ given }: { given: Schemas["LinkView"] }) {
  if (!given.link) {
    return (
      <p>{given.email} has an account, or a link to make one, and sees the app from now on.</p>
    );
  }
  return (
    <div className="commands" data-testid="link">
      Give {given.email} this link, by a way that nobody else reads. It holds for a week, once, and
      is shown this once:
      <Raw>{given.link}</Raw>
    </div>
  );
}

interface RowProps extends AddProps {
  member: Member;
  /** Whoever looks manages all apps. */
  everything: boolean;
  own: boolean;
}

function MemberRow({ app, member, everything, own, onGiven }: RowProps) {
  const change = useChangeRole(app);
  const remove = useRemoveMember(app);
  const give = useGiveLink();
  const end = useEndAccount();
  const trouble = change.error ?? remove.error ?? give.error ?? end.error;
  return (
    <>
      <tr>
        <td>{member.invited ? <span className="soft">invited</span> : member.name}</td>
        <td>{member.email}</td>
        <td>
          {member.manages_all ? (
            "manages all apps"
          ) : (
            <RoleChoice
              label={`Role of ${member.email}`}
              role={member.role}
              onRole={(role) => change.mutate({ id: member.id, role })}
            />
          )}
        </td>
        <td className="small-text text-end text-nowrap">
          {everything && !own && (
            <button
              type="button"
              className="figure-button me-3"
              onClick={() =>
                give.mutate(member.id, {
                  onSuccess: (link) => onGiven(link),
                })
              }
            >
              new link
            </button>
          )}
          {!member.manages_all && (
            <button
              type="button"
              className="figure-button me-3"
              onClick={() => remove.mutate(member.id)}
            >
              let go
            </button>
          )}
          {everything && !own && <EndAccount member={member} onEnd={() => end.mutate(member.id)} />}
        </td>
      </tr>
      {trouble && (
        <tr>
          <td colSpan={4}>
            <Trouble problem={trouble} />
          </td>
        </tr>
      )}
    </>
  );
}

/** Ends what cannot be taken back only when it is said twice. */
function EndAccount({ member, onEnd }: { member: Member; onEnd: () => void }) {
  const [sure, setSure] = useState(false);
  return (
    <button
      type="button"
      className={`figure-button ${sure ? "text-rust" : ""}`}
      aria-label={`End the account of ${member.email}`}
      onBlur={() => setSure(false)}
      onClick={() => (sure ? onEnd() : setSure(true))}
    >
      {sure ? "end it for good" : "end account"}
    </button>
  );
}

function Deeds({ app }: { app: string }) {
  const deeds = useDeeds(app);
  if (!deeds.data) {
    return deeds.isError ? <Trouble problem={deeds.error} /> : <Loading what="Reading" />;
  }
  return (
    <>
      <h2 className="mt-4">What was done, newest first</h2>
      <PlainTable testid="deeds">
        <thead>
          <tr>
            <th>when, in UTC</th>
            <th>who</th>
            <th>did</th>
            <th>what</th>
            <th>from</th>
          </tr>
        </thead>
        <tbody>
          {deeds.data.map((one, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: deeds have no other name, and stay
            <tr key={i}>
              <td className="text-nowrap">
                {date(one.at)}, {time(one.at)}
              </td>
              <td>{one.who}</td>
              <td>{one.did}</td>
              <td className="soft deed-what">{one.what}</td>
              <td className="soft">{one.address}</td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
    </>
  );
}
