import TextField from "@mui/material/TextField";
import { useState } from "react";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { DepositOffer, InvoiceView } from "../../api/types";
import { decimal, exponentOf, money, typedDecimal } from "../../format";
import { Lines, useEverythingChanged } from "../../parts/bits";

/** Deposits on a draft: those of its orders go by themselves, others as far as an amount is typed. */
export function DepositsOfDraft({
  invoice,
  currency,
  seen,
  set,
  locked,
}: {
  invoice: InvoiceView;
  currency: string;
  /** The version once what was typed is saved. */
  seen: () => Promise<number>;
  set: (version: number) => void;
  locked: boolean;
}) {
  const offers = invoice.deposits.filter((offer) => offer.held > 0);
  if (offers.length === 0) {
    return null;
  }
  return (
    <Lines label="Deposits">
      <thead>
        <tr>
          <th>Deposit</th>
          <th>For</th>
          <th />
          <th className="right">Held</th>
          <th className="right">At most here</th>
          <th className="right">Apply {currency}</th>
          <th />
        </tr>
      </thead>
      <tbody>
        {offers.map((offer) => (
          <OfferRow
            key={`${offer.item}-${offer.applied}-${offer.typed}`}
            {...{ offer, currency, seen, set, locked, id: invoice.id }}
          />
        ))}
      </tbody>
    </Lines>
  );
}

function OfferRow({
  offer,
  currency,
  id,
  seen,
  set,
  locked,
}: {
  offer: DepositOffer;
  currency: string;
  id: number;
  seen: () => Promise<number>;
  set: (version: number) => void;
  locked: boolean;
}) {
  const changed = useEverythingChanged();
  const shown = decimal(offer.applied, exponentOf(currency));
  const [typed, setTyped] = useState<string>();
  const [wrong, setWrong] = useState<string>();
  const save = async (amount: string | null) => {
    try {
      const version = await seen();
      const now = await got(
        api.PUT("/api/invoices/{id}/deposit", {
          params: { path: { id }, header: keyed(newKey()) },
          body: { version, item: offer.item, amount },
        }),
      );
      set(now.version);
      setWrong(undefined);
      setTyped(undefined);
      await changed();
    } catch (error) {
      setWrong(error instanceof Problem ? error.message : String(error));
    }
  };
  const keep = () => {
    if (typed !== undefined && typedDecimal(typed) !== shown) {
      void save(typedDecimal(typed) || "0");
    }
  };
  return (
    <tr>
      <td>
        <b>{offer.document.number}</b>
      </td>
      <td>{offer.order ?? "on account"}</td>
      <td className="dim">{offer.why}</td>
      <td className="right">{money(offer.held, currency)}</td>
      <td className="right dim">{money(offer.most, currency)}</td>
      <td className="right">
        <TextField
          value={typed ?? shown}
          onChange={(event) => setTyped(event.target.value)}
          onFocus={(event) => (event.target as HTMLInputElement).select()}
          onBlur={keep}
          onKeyDown={(event) => {
            if (event.key === "Enter" && !event.ctrlKey) {
              event.preventDefault();
              keep();
            }
            if (event.key === "Escape") {
              event.preventDefault();
              setTyped(undefined);
              setWrong(undefined);
              (event.target as HTMLElement).blur();
            }
          }}
          error={!!wrong}
          helperText={wrong}
          disabled={locked}
          sx={{ width: 124 }}
          slotProps={{
            htmlInput: {
              "aria-label": `Apply of ${offer.document.number}, ${money(offer.most, currency)} at most`,
              inputMode: "decimal",
              style: { textAlign: "right" },
            },
          }}
        />
      </td>
      <td className="dim">
        {offer.typed && !locked ? (
          <button type="button" className="quietly" onClick={() => save(null)}>
            {offer.order ? "By itself again" : "Leave it out"}
          </button>
        ) : offer.order ? (
          "by itself"
        ) : (
          ""
        )}
      </td>
    </tr>
  );
}
