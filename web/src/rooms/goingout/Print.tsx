import { useQueries } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import { plural } from "../../format";
import { Lines, useEverythingChanged, Wrong } from "../../parts/bits";
import { PrintedPaper, usePapersReady } from "../../parts/PrintedPaper";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";

/** Papers of the print queue, one after the other for the printer; then they are out of the queue. */
export function PrintRoom() {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const ids = (params.get("ids") ?? "")
    .split(",")
    .map(Number)
    .filter((id) => id > 0);
  const messages = useQueries({
    queries: ids.map((id) => ({
      queryKey: ["delivery", id],
      queryFn: () => got(api.GET("/api/deliveries/{id}", { params: { path: { id } } })),
    })),
  });
  const documents = messages.flatMap((one) => (one.data ? [one.data.delivery] : []));
  const papersReady = usePapersReady();
  const ready = messages.every((one) => one.data) && papersReady;
  const wrong = messages.find((one) => one.error)?.error;
  const done = async () => {
    try {
      const printed = documents.filter((one) => one.state === "waiting").map((one) => one.id);
      await got(api.POST("/api/deliveries/printed", { params: { header: keyed(newKey()) }, body: { ids: printed } }));
      say({ kind: "done", text: `${plural(printed.length, "paper is", "papers are")} out of the print queue.` });
      await changed();
      navigate("/billing/going-out");
    } catch (error) {
      say({ kind: "stop", text: error instanceof Problem ? error.message : String(error) });
    }
  };
  return (
    <Worktop
      title="Print queue"
      sum={plural(documents.length, "paper", "papers")}
      back="/billing/going-out"
      actions={[
        { key: "w", label: "Print", run: () => window.print(), primary: true, disabled: !ready },
        { key: "p", label: "Mark as printed", run: done, disabled: !ready, needs: "send_out" },
      ]}
    >
      {wrong && <Wrong error={wrong} />}
      {documents.map(({ document: { kind, id } }) => (
        <PrintedPaper key={id} kind={kind === "credit_memo" || kind === "return" ? kind : "invoice"} id={id} />
      ))}
      <Lines label="Papers to print">
        <thead>
          <tr>
            <th>Document</th>
            <th>Customer</th>
          </tr>
        </thead>
        <tbody>
          {documents.map((one) => (
            <tr key={one.id}>
              <td>{one.document.number}</td>
              <td>{one.customer_name}</td>
            </tr>
          ))}
        </tbody>
      </Lines>
    </Worktop>
  );
}
