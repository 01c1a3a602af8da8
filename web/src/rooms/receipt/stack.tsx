import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { Link } from "react-router";
import { exponentOf, money, plural, typedDecimal } from "../../format";
import { Marked, useBase } from "../../parts/bits";
import { useKept } from "../../parts/kept";
import { Paper } from "../../parts/TapeRoll";

/** A receipt that was entered with a stack. */
export interface Entered {
  id: number;
  number: string;
  name: string;
  /** In minor units of its currency. */
  amount: number;
  currency: string;
}

const nothing = { control: "", method: "", date: "", entered: [] as Entered[] };

/** A stack of checks, or of other receipts, entered one after the other: each is posted by itself, what they come to is compared. */
export function useStack() {
  return useKept("stack-of-receipts", nothing);
}

export type Stack = ReturnType<typeof useStack>;

const Strip = styled("div")({
  display: "flex",
  gap: 16,
  alignItems: "center",
  margin: "2px 0 12px",
  "& .said": { fontVariantNumeric: "tabular-nums" },
});

/** What was entered in base currency, and what of the control total is left: none where no total was typed. */
export function standing(stack: Stack["typed"], base: string) {
  const sum = stack.entered.filter((one) => one.currency === base).reduce((all, one) => all + one.amount, 0);
  const typed = typedDecimal(stack.control);
  const control = /^\d+(\.\d+)?$/.test(typed) ? Math.round(Number(typed) * 10 ** exponentOf(base)) : undefined;
  return { sum, left: control === undefined ? undefined : control - sum };
}

/** The control total, and how far the stack is. */
export function StackHead({ stack }: { stack: Stack }) {
  const base = useBase();
  const { sum, left } = standing(stack.typed, base);
  return (
    <Strip>
      <TextField
        label={`Control total ${base}`}
        value={stack.typed.control}
        onChange={(event) => stack.type({ control: event.target.value })}
        sx={{ width: 150 }}
        slotProps={{ htmlInput: { inputMode: "decimal", style: { textAlign: "right" } } }}
      />
      <span className="said">
        {plural(stack.typed.entered.length, "receipt", "receipts")} · {money(sum, base)} {base}
        {left !== undefined && " · "}
        {left !== undefined &&
          (left === 0 ? (
            <Marked className="done">● the stack is complete</Marked>
          ) : left > 0 ? (
            `${money(left, base)} to go`
          ) : (
            <Marked className="stop">◆ {money(-left, base)} too much</Marked>
          ))}
      </span>
    </Strip>
  );
}

/** What was entered with the stack, on the roll. */
export function StackRoll({ stack }: { stack: Stack }) {
  const base = useBase();
  const { sum, left } = standing(stack.typed, base);
  const { entered } = stack.typed;
  return (
    <Paper>
      <h2>
        A stack of receipts
        <br />
        <span>each is posted by itself</span>
      </h2>
      {entered.length === 0 && <div className="words quiet">What you post stands here, with what it comes to.</div>}
      {entered.map((one) => (
        <div className="l" key={one.id}>
          <span>
            <Link to={`/receipts/${one.id}`}>{one.number}</Link> {one.name}
          </span>
          <span>
            {money(one.amount, one.currency)}
            {one.currency !== base && ` ${one.currency}`}
          </span>
        </div>
      ))}
      {entered.length > 0 && (
        <div className="l due">
          <span>Entered {base}</span>
          <span>{money(sum, base)}</span>
        </div>
      )}
      {left !== undefined && left !== 0 && (
        <div className="l">
          <span>{left > 0 ? "to go" : "too much"}</span>
          <span>{money(Math.abs(left), base)}</span>
        </div>
      )}
      {entered.some((one) => one.currency !== base) && (
        <div className="words quiet">What came in another currency is not in the sum.</div>
      )}
    </Paper>
  );
}
