import { useNavigate } from "react-router";
import { api, dataOf } from "../../api/client";
import { useChange } from "../../api/queries";
import { useSignOut } from "../../api/team";
import { NameForm } from "../../shell/NameForm";
import { Trouble } from "../../shell/states";
import { Gate } from "./Gate";

/** What is there for someone who is in, where there is no app for them yet. */
export function FirstApp({ manages }: { manages: boolean }) {
  const navigate = useNavigate();
  const signOut = useSignOut();
  const create = useChange(async (name: string) => {
    const made = await dataOf(api.POST("/api/apps", { body: { name } }));
    navigate({ pathname: "/logs", search: `?app=${made.key}` });
  });
  return (
    <Gate title={manages ? "Which app is it about?" : "No app is open to you yet"}>
      {manages ? (
        <NameForm
          label="Name of the app"
          placeholder="the name that you call it by"
          word="Go on"
          busy={create.isPending}
          onName={(name) => create.mutate(name)}
        />
      ) : (
        <p>Someone who manages an app can let you in. Then open this page again.</p>
      )}
      {create.isError && <Trouble problem={create.error} />}
      <button
        type="button"
        className="figure-button small-text mt-4"
        onClick={() => signOut.mutate(undefined)}
      >
        sign out
      </button>
    </Gate>
  );
}
