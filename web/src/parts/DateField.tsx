import TextField from "@mui/material/TextField";

interface Props {
  label: string;
  /** What a person typed; empty where nobody did. */
  typed: string;
  /** What holds until then. */
  assumed: string;
  onType: (date: string) => void;
  error?: string | undefined;
  /** Where the assumed date comes from. */
  from: string;
}

/** A date that shows what is assumed, and says so, until someone types another. */
export function DateField({ label, typed, assumed, onType, error, from }: Props) {
  return (
    <TextField
      label={label}
      type="date"
      value={typed || assumed}
      onChange={(event) => onType(event.target.value === assumed ? "" : event.target.value)}
      error={!!error}
      helperText={error ?? (typed ? "typed; clear it to go back" : from)}
      slotProps={{ htmlInput: { style: typed ? undefined : { color: "var(--ink-2)" } } }}
    />
  );
}
