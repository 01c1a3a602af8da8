import { Link } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { DeliveryRow } from "../../api/types";
import { moment } from "../../format";
import { Marked, useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useNotices } from "../../shell/notices";

type Going = Pick<DeliveryRow, "way" | "state">;

/** How far a document is on its way, in a shape and words. */
export function GoingMark({ going }: { going: Going | null | undefined }) {
  if (!going) {
    return null;
  }
  if (going.state === "failed") {
    return <Marked className="stop">◆ failed</Marked>;
  }
  if (going.state === "waiting") {
    return <Marked className="dim">to {going.way === "mail" ? "email" : "print"}</Marked>;
  }
  return <Marked className="dim">● {going.way === "mail" ? "emailed" : "printed"}</Marked>;
}

/** How a document goes, or went, to its customer. */
export function GoingOutLines({ deliveries }: { deliveries: DeliveryRow[] }) {
  if (deliveries.length === 0) {
    return null;
  }
  return (
    <p style={{ margin: "0 0 8px", display: "flex", gap: 16, flexWrap: "wrap" }}>
      {deliveries.map((one) => (
        <span key={one.id}>
          <GoingMark going={one} />{" "}
          {one.way === "mail" ? <Link to={`/going-out/${one.id}`}>message to {one.recipient ?? "nobody"}</Link> : null}
          {one.done_at && <Marked className="dim"> {moment(one.done_at)}</Marked>}
          {one.problem && <Marked className="stop"> {one.problem}</Marked>}
        </span>
      ))}
    </p>
  );
}

/** Puts a document on its way once more, or the slip of a return. */
export function SendAgainAsk({
  kind,
  id,
  number,
  close,
}: {
  kind: "invoice" | "credit_memo" | "return";
  id: number;
  number: string;
  close: () => void;
}) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      title={kind === "return" ? `Send the slip of ${number}?` : `Send ${number} again?`}
      yes="Put it on its way"
      close={close}
      fields={[
        {
          name: "way",
          label: "How",
          choices: [
            ["mail", "by email"],
            ["print", "on paper"],
          ],
        },
      ]}
      run={async (values, key) => {
        const way = values.way === "print" ? "print" : "mail";
        const delivery = await got(
          api.POST("/api/deliveries", { params: { header: keyed(key) }, body: { kind, id, way } }),
        );
        say({
          kind: "done",
          text: way === "mail" ? `The message with ${number} is ready to send.` : `${number} is in the print queue.`,
          links: [
            way === "mail"
              ? { text: "Look at the message", to: `/going-out/${delivery}` }
              : { text: "Outbox", to: "/billing/going-out" },
          ],
        });
        await changed();
      }}
    />
  );
}
