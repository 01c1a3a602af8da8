import { useQuery } from "@tanstack/react-query";
import { api, got } from "../api/client";
import { Facts } from "../parts/bits";
import { Paper } from "../parts/TapeRoll";
import { PasswordForm } from "../shell/doors";
import { useNotices } from "../shell/notices";
import { useSession } from "../shell/session";
import { Worktop } from "../shell/Worktop";

/** One's own sign-in: the password, and the way out. */
export function MeRoom() {
  const { person, signOut } = useSession();
  const { say } = useNotices();
  const rights = useQuery({ queryKey: ["rights"], queryFn: () => got(api.GET("/api/setup/rights")) });
  const at = ["clerk", "lead", "auditor", "administrator"].indexOf(person.role);
  const may = (rights.data ?? []).filter((row) => row.rights[at] !== "no");
  return (
    <Worktop
      title={person.name}
      sum={`signed in as ${person.sign_in}`}
      back="/"
      actions={[
        { key: "x", label: "Sign out", run: () => signOut(false), primary: true },
        { key: "e", label: "Sign out everywhere", run: () => signOut(true) },
      ]}
      tape={
        <Paper>
          <h2>
            What a {person.role} may do
            <br />
            <span>an administrator sets roles and limits</span>
          </h2>
          {may.map((row) => (
            <div className="words" key={row.words}>
              ● {row.words}
              {row.rights[at] !== "yes" && <span className="heed"> · {row.rights[at]}</span>}
            </div>
          ))}
        </Paper>
      }
    >
      <Facts
        facts={[
          ["Name", person.name],
          ["Sign-in name", person.sign_in],
          ["Role", person.role],
        ]}
      />
      <div style={{ maxWidth: 380, marginTop: 18 }}>
        <PasswordForm
          title="Another password"
          words="Every other place where you are signed in is signed out."
          done={async () => say({ kind: "done", text: "Your password is changed. Other places are signed out." })}
        />
      </div>
    </Worktop>
  );
}
