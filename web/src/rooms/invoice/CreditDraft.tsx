import { useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { AddedLine, CreditDraft, CreditDraftForm } from "../../api/types";
import { number, price } from "../../format";
import { useEverythingChanged, Wrong } from "../../parts/bits";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { CreditOf } from "./Credit";
import { CreditAloneOf } from "./CreditAlone";
import type { OtherLine } from "./OtherWay";

/** A number of a draft as the reader types it; what was no number stays what it was. */
export function asTyped(text: string | null | undefined, as: (text: string) => string = number): string {
  return text && /^-?\d+(\.\d+)?$/.test(text) ? as(text) : (text ?? "");
}

/** Lines of a draft that go the other way, as they were typed. */
export function otherLines(added: AddedLine[] | undefined): OtherLine[] {
  return (added ?? []).map((line) => ({
    item: line.item ?? "",
    quantity: asTyped(line.quantity),
    price: asTyped(line.unit_price, price),
  }));
}

/** The draft that is posted, in the version that was seen. */
export function keptAs(draft: CreditDraft | undefined) {
  return draft ? { draft: draft.id, draft_version: draft.version } : {};
}

/** Saves what is typed as a draft that anyone can go on with. */
export function useSaveDraft(draft: CreditDraft | undefined, forget: () => void) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const saving = useRef(false);
  return async (form: CreditDraftForm) => {
    // The key pressed twice saves one draft.
    if (saving.current) {
      return;
    }
    saving.current = true;
    const header = keyed(newKey());
    try {
      const saved = await got(
        draft
          ? api.POST("/api/credit-drafts/{id}", {
              params: { path: { id: draft.id }, header },
              body: { version: draft.version, form },
            })
          : api.POST("/api/credit-drafts", { params: { header }, body: form }),
      );
      forget();
      say({
        kind: "done",
        text: "The draft is saved. Anyone can go on with it.",
        links: [{ text: "Credit memos", to: "/billing/credit-memos" }],
      });
      await changed();
      navigate(`/credit-drafts/${saved.id}`, { replace: true });
    } catch (error) {
      if (!(error instanceof Problem)) {
        throw error;
      }
      say({ kind: "stop", text: error.message });
    } finally {
      saving.current = false;
    }
  };
}

/** A draft of a credit memo, opened where it was typed. */
export function CreditDraftRoom() {
  const { id = "" } = useParams();
  const found = useQuery({
    queryKey: ["credit-draft", id],
    queryFn: () => got(api.GET("/api/credit-drafts/{id}", { params: { path: { id: Number(id) } } })),
  });
  const draft = found.data;
  if (!draft) {
    return (
      <Worktop title="Draft of a credit memo" actions={[]} back="/billing/credit-memos">
        {found.error && <Wrong error={found.error} />}
      </Worktop>
    );
  }
  const key = `${draft.id}.${draft.version}`;
  return draft.form.of === "invoice" ? (
    <CreditOf key={key} id={draft.form.invoice} returnId={draft.returned ?? undefined} draft={draft} />
  ) : (
    <CreditAloneOf key={key} returnId={draft.returned ?? undefined} draft={draft} />
  );
}
