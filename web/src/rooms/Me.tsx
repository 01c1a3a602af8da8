import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { Facts, Lines } from "../parts/bits";
import { Paper } from "../parts/TapeRoll";
import { ApprovalState } from "../parts/together";
import { PasswordForm } from "../shell/doors";
import { useNotices } from "../shell/notices";
import { useSession } from "../shell/session";
import { Worktop } from "../shell/Worktop";
import { roleWords, withArticle } from "../words";

/** One's own sign-in: the password, and the way out. */
export function MeRoom() {
  const { person, signOut } = useSession();
  const { say } = useNotices();
  const leave = (everywhere: boolean) =>
    signOut(everywhere).catch((error) => say({ kind: "stop", text: `You are still signed in. ${error.message}` }));
  const rights = useQuery({ queryKey: ["rights"], queryFn: () => got(api.GET("/api/setup/rights")) });
  const requests = useQuery({ queryKey: ["approvals"], queryFn: () => got(api.GET("/api/approvals")) });
  const own = (requests.data ?? []).filter((one) => one.own);
  const at = ["clerk", "lead", "auditor", "administrator"].indexOf(person.role);
  const may = (rights.data ?? []).filter((row) => row.rights[at] !== "no");
  return (
    <Worktop
      title={person.name}
      sum={`signed in as ${person.sign_in}`}
      back="/"
      actions={[
        { key: "", label: "Sign out", run: () => leave(false), primary: true },
        { key: "", label: "Sign out everywhere", run: () => leave(true) },
      ]}
      tape={
        <Paper>
          <h2>
            What {withArticle(roleWords[person.role])} may do
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
          ["Role", roleWords[person.role]],
        ]}
      />
      {own.length > 0 && (
        <Lines label="What you asked for">
          <thead>
            <tr>
              <th>What you asked for</th>
              <th>Stands</th>
              <th>What was said to it</th>
            </tr>
          </thead>
          <tbody>
            {own.slice(0, 8).map((request) => (
              <tr key={request.id}>
                <td>
                  <Link to={`/approvals/${request.id}`}>{request.words}</Link>
                </td>
                <td>
                  <ApprovalState approval={request} />
                </td>
                <td className="dim">{request.decision && `${request.decided_by}: ${request.decision}`}</td>
              </tr>
            ))}
          </tbody>
        </Lines>
      )}
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
