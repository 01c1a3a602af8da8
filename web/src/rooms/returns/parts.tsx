import TextField from "@mui/material/TextField";
import type { ReturnSettings } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { useToday } from "../../parts/bits";
import { DateField } from "../../parts/DateField";

/** What a posting that takes goods back comes to: below zero the customer owes something. */
export function comesToWords(total: number, currency: string): string {
  if (total === 0) {
    return "even";
  }
  return total > 0 ? `credit ${moneyWithCurrency(total, currency)}` : `${moneyWithCurrency(-total, currency)} to pay`;
}

/** What goes back to the supplier is claimed there, and what is rejected is not credited: both are inspected first. */
export function settledAtOnce(settings: ReturnSettings | undefined) {
  return (settings?.dispositions ?? []).filter(
    (one) => one.active && (one.outcome === "restock" || one.outcome === "scrap"),
  );
}

/** Why, as the document says it, and when. */
export function WhyAndDate({
  why,
  day,
  type,
  errors,
  first = true,
}: {
  why: string;
  day: string;
  type: (what: { why?: string; day?: string }) => void;
  errors: Record<string, string>;
  /** Whether one begins here. */
  first?: boolean;
}) {
  const today = useToday();
  return (
    <div style={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr) 170px", gap: 14, margin: "6px 0 14px" }}>
      <TextField
        label="Why"
        value={why}
        onChange={(event) => type({ why: event.target.value })}
        autoFocus={first}
        error={!!errors.reason}
        helperText={errors.reason ?? "Stands on the document"}
      />
      <DateField
        label="Date"
        typed={day}
        assumed={today}
        onType={(day) => type({ day })}
        error={errors.date}
        from="the business date"
      />
    </div>
  );
}
