import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import type { CreditOpen } from "../../api/types";
import { moneyWithCurrency } from "../../format";

/** What lies open on the customer's side, to be used together with money that comes. */
export function Credits({
  credits,
  used,
  use,
}: {
  credits: CreditOpen[];
  used: number[];
  use: (used: number[]) => void;
}) {
  if (credits.length === 0) {
    return null;
  }
  return (
    <fieldset
      aria-label="Used with it"
      style={{ border: 0, padding: 0, margin: "0 0 10px", display: "flex", gap: 16, flexWrap: "wrap" }}
    >
      <span>Used with it:</span>
      {credits.map((one) => (
        <FormControlLabel
          key={one.item}
          label={`${one.document.number} · ${moneyWithCurrency(one.open, one.currency)}`}
          control={
            <Checkbox
              checked={used.includes(one.item)}
              onChange={(event) =>
                use(event.target.checked ? [...used, one.item] : used.filter((item) => item !== one.item))
              }
            />
          }
        />
      ))}
    </fieldset>
  );
}
