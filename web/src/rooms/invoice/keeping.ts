import { useRef, useState } from "react";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import { type InvoiceView, type MergeView, type ToBill, whole } from "../../api/types";
import { useDocumentChanged } from "../../parts/bits";

type How = (now: ToBill) => ToBill;

const asRead = (invoice: InvoiceView): ToBill => whole(invoice.to_bill);

/** Whether a change puts something on the draft or takes it off: then what is left to bill is another. */
const moves = (from: ToBill, to: ToBill): boolean =>
  JSON.stringify([from.picks, from.order_picks]) !== JSON.stringify([to.picks, to.order_picks]);

/**
 * Keeps a draft as it is changed, one request after the other. A change that comes before the one
 * before it was read back builds on it, so that neither undoes the other; where someone else was
 * faster, `conflict` says what can be made of both.
 */
export function useKeptDraft(invoice: InvoiceView, onKept: (kept: ToBill) => void) {
  const changed = useDocumentChanged();
  const here = ["invoice", String(invoice.id)];
  const [wrong, setWrong] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [conflict, setConflict] = useState<MergeView>();
  const version = useRef(invoice.version);
  version.current = Math.max(version.current, invoice.version);
  // What is on its way, and what the first of it was made from.
  const wanted = useRef<ToBill>(undefined);
  const base = useRef<ToBill>(undefined);
  // Changes that came since the one that is on its way.
  const since = useRef<How[]>([]);
  const latest = useRef(0);
  // What was wrong stays said until something is changed after it.
  const wrongAt = useRef(0);
  const queued = useRef(0);
  const saving = useRef<Promise<void>>(Promise.resolve());
  if (queued.current === 0 && invoice.version >= version.current) {
    wanted.current = undefined;
    base.current = undefined;
  }
  const send = async (toBill: ToBill, from: ToBill, turn: number) => {
    const seen = version.current;
    try {
      const answer = await got(
        api.PUT("/api/invoices/{id}", {
          params: { path: { id: invoice.id }, header: keyed(newKey()) },
          body: { ...toBill, version: seen },
        }),
      );
      version.current = answer.version;
      if (turn > wrongAt.current) {
        setWrong(undefined);
      }
      onKept(toBill);
      await changed(here, ...(moves(from, toBill) ? [["spine"]] : []));
    } catch (error) {
      if (error instanceof Problem && error.code === "stale") {
        const path = { id: invoice.id };
        const body = { version: seen, base: from, mine: wanted.current ?? toBill };
        wanted.current = undefined;
        base.current = undefined;
        setConflict(await got(api.POST("/api/invoices/{id}/merge", { params: { path }, body })));
      } else {
        // What came since is made without what was refused.
        wanted.current = since.current.length > 0 ? since.current.reduce((now, how) => how(now), from) : undefined;
        base.current = wanted.current && from;
        throw error;
      }
    }
  };
  const keep = (how: How, over?: number) => {
    const from = base.current ?? asRead(invoice);
    base.current = from;
    wanted.current = how(wanted.current ?? from);
    since.current.push(how);
    latest.current += 1;
    const turn = latest.current;
    queued.current += 1;
    setBusy(true);
    saving.current = saving.current.then(async () => {
      if (over !== undefined) {
        version.current = over;
      }
      try {
        // What was changed since holds this change too, and is sent in its turn.
        const toBill = wanted.current;
        if (turn === latest.current && toBill) {
          since.current = [];
          await send(toBill, from, turn);
        }
      } catch (error) {
        wrongAt.current = latest.current;
        setWrong(error instanceof Problem ? error : new Problem({ title: String(error) }));
      } finally {
        queued.current -= 1;
        setBusy(queued.current > 0);
      }
    });
  };
  return {
    /** Changes the draft as it will be once everything on its way is kept. */
    change: (how: How) => keep(how),
    /** The version once nothing is on its way any more. */
    settled: async () => {
      await saving.current;
      return version.current;
    },
    setVersion: (kept: number) => {
      version.current = kept;
    },
    takeTheirs: async () => {
      setConflict(undefined);
      await changed(here);
    },
    keepBoth: () => {
      setConflict(undefined);
      if (conflict) {
        keep(() => whole(conflict.merged), conflict.version);
      }
    },
    wrong,
    setWrong,
    busy,
    conflict,
  };
}
