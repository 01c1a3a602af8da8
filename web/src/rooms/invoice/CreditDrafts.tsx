import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { CreditDraftRow } from "../../api/types";
import { moment, money } from "../../format";
import { Lines, Marked, useEverythingChanged } from "../../parts/bits";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";

/** Credit memos that someone began and nobody has posted. */
export function CreditDrafts() {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay();
  const [deleting, setDeleting] = useState<CreditDraftRow>();
  const found = useQuery({ queryKey: ["credit-drafts"], queryFn: () => got(api.GET("/api/credit-drafts")) });
  const drafts = found.data ?? [];
  if (drafts.length === 0) {
    return null;
  }
  return (
    <div style={{ marginBottom: 12 }}>
      <Lines label="Drafts of credit memos">
        <thead>
          <tr>
            <th>Draft</th>
            <th>Of invoice</th>
            <th>Why</th>
            <th>Saved</th>
            <th className="right">Would credit</th>
            <th aria-label="Delete" />
          </tr>
        </thead>
        <tbody>
          {drafts.map((draft) => (
            <tr key={draft.id}>
              <td>
                <Link to={`/credit-drafts/${draft.id}`}>{draft.customer_name}</Link>
                {draft.blocked && (
                  <div>
                    <Marked className="heed">▲ {draft.blocked}</Marked>
                  </div>
                )}
              </td>
              <td>{draft.invoice?.number ?? <span className="dim">none</span>}</td>
              <td>{draft.reason || <span className="dim">not said yet</span>}</td>
              <td className="dim">
                {moment(draft.saved_at)}, {draft.saved_by}
              </td>
              <td className="right">
                {draft.total != null && `${money(draft.total, draft.currency)} ${draft.currency}`}
              </td>
              <td className="right">
                {may("cancel_invoice") && (
                  <Button
                    size="small"
                    aria-label={`Delete the draft for ${draft.customer_name}`}
                    onClick={() => setDeleting(draft)}
                  >
                    Delete…
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Lines>
      {deleting && (
        <Ask
          title={`Delete the draft of a credit memo for ${deleting.customer_name}?`}
          yes="Delete draft"
          busyWords="Deleting…"
          close={() => setDeleting(undefined)}
          run={async (key) => {
            await got(
              api.POST("/api/credit-drafts/{id}/delete", {
                params: { path: { id: deleting.id }, header: keyed(key) },
                body: { version: deleting.version },
              }),
            );
            say({ kind: "done", text: "The draft is deleted. Nothing else has changed." });
            await changed();
          }}
        >
          What was typed on it is lost. Nothing was posted.
        </Ask>
      )}
    </div>
  );
}
