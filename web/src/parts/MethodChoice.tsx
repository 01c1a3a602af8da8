import FormControlLabel from "@mui/material/FormControlLabel";
import Radio from "@mui/material/Radio";
import { styled } from "@mui/material/styles";
import type { PaymentMethod } from "../api/types";
import { sentence } from "../format";

/** A few things beside each other under a name, in a form. */
export const Methods = styled("fieldset")({
  border: 0,
  padding: 0,
  margin: 0,
  display: "flex",
  gap: 14,
  alignItems: "center",
  "& legend": { fontSize: 12.5, fontWeight: 600, color: "var(--ink-3)", padding: 0 },
});

/** One of the ways of paying. */
export function MethodChoice({
  methods,
  method,
  choose,
}: {
  methods: PaymentMethod[];
  method: string;
  choose: (code: string) => void;
}) {
  return (
    <Methods>
      <legend>Method</legend>
      {methods.map((one) => (
        <FormControlLabel
          key={one.code}
          title={one.place}
          label={sentence(one.name)}
          control={
            <Radio name="method" value={one.code} checked={method === one.code} onChange={() => choose(one.code)} />
          }
        />
      ))}
    </Methods>
  );
}
