import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { api, got, type Problem } from "../api/client";
import type { GoodsSettings } from "../api/types";
import { DateInput } from "./DateInput";

/** Fields in columns, with a heading over each group. */
export const FormGrid = styled("div")({
  display: "grid",
  gridTemplateColumns: "repeat(12, minmax(0, 1fr))",
  gap: "16px 12px",
  padding: "7px 2px 10px",
  "& h2": { gridColumn: "1 / -1", margin: "2px 0 -6px", fontSize: 13, fontWeight: 650, color: "var(--ink-3)" },
});

/** What is wrong with a form: the field's own words, by name. */
export type Faults = Problem | undefined;

export function faultAt(faults: Faults, name: string): string | undefined {
  if (!faults) {
    return undefined;
  }
  const blocker = faults.blockers.find((one) => one.field === name);
  return blocker?.sentence ?? (faults.field === name ? faults.message : undefined);
}

interface FieldProps {
  label: string;
  /** As the server names it. */
  name: string;
  value: string;
  onChange: (value: string) => void;
  faults?: Faults;
  /** What is wrong already here, before anything is sent. */
  fault?: string | undefined;
  hint?: string | undefined;
  /** How many of the twelve columns. */
  span?: number;
  right?: boolean;
  type?: "text" | "date";
  words?: boolean;
  choices?: readonly (readonly [value: string, label: string])[] | undefined;
  disabled?: boolean;
  autoFocus?: boolean;
  onEnter?: () => void;
  /** When the field is left. */
  onLeave?: () => void;
}

/** One field of a form; what is wrong stands below it. */
export function Field(props: FieldProps) {
  const {
    label,
    name,
    value,
    onChange,
    faults,
    hint,
    span = 3,
    right,
    type,
    words,
    choices,
    disabled,
    autoFocus,
  } = props;
  const fault = props.fault ?? faultAt(faults, name);
  if (type === "date") {
    return (
      <div style={{ gridColumn: `span ${span}` }} data-field={name}>
        <DateInput
          fullWidth
          label={label}
          value={value}
          onChange={onChange}
          disabled={!!disabled}
          autoFocus={!!autoFocus}
          error={!!fault}
          helperText={fault ?? hint}
          {...(props.onEnter && { onEnter: props.onEnter })}
          {...(props.onLeave && { onLeave: props.onLeave })}
        />
      </div>
    );
  }
  return (
    <div style={{ gridColumn: `span ${span}` }} data-field={name}>
      <TextField
        fullWidth
        label={label}
        value={value}
        onChange={(event) => onChange(event.target.value)}
        onBlur={() => props.onLeave?.()}
        type="text"
        select={!!choices}
        multiline={!!words}
        disabled={!!disabled}
        autoFocus={!!autoFocus}
        error={!!fault}
        helperText={fault ?? hint}
        onKeyDown={(event) => {
          if (event.key === "Enter" && props.onEnter && !event.ctrlKey) {
            event.preventDefault();
            props.onEnter();
          } else if (event.key === "Enter" && choices) {
            // A choice takes Enter as a text field does: it sends what is asked, where something is.
            (event.target as HTMLSelectElement).form?.requestSubmit();
          }
        }}
        slotProps={{
          select: { native: true },
          htmlInput: { style: right ? { textAlign: "right" } : {}, inputMode: right ? "decimal" : undefined },
        }}
      >
        {choices?.map(([choice, text]) => (
          <option key={choice} value={choice}>
            {text}
          </option>
        ))}
      </TextField>
    </div>
  );
}

/** A box to tick. */
export function Tick({
  label,
  on,
  toggle,
  span = 4,
  disabled,
}: {
  label: ReactNode;
  on: boolean;
  toggle: (on: boolean) => void;
  span?: number;
  disabled?: boolean;
}) {
  return (
    <FormControlLabel
      sx={{ gridColumn: `span ${span}`, minHeight: 34 }}
      label={label}
      control={<Checkbox checked={on} disabled={!!disabled} onChange={(event) => toggle(event.target.checked)} />}
    />
  );
}

/** What can be chosen: units, warehouses, tax codes, custom fields, reporting lists. */
export function useGoods(): GoodsSettings | undefined {
  const goods = useQuery({
    queryKey: ["goods-settings"],
    queryFn: () => got(api.GET("/api/goods-settings")),
    staleTime: 60_000,
  });
  return goods.data;
}

/** Nothing, where a field is empty. */
export function orNull(text: string | null | undefined): string | null {
  const typed = (text ?? "").trim();
  return typed === "" ? null : typed;
}
