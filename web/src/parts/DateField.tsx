import { DateInput } from "./DateInput";

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
    <DateInput
      label={label}
      value={typed || assumed}
      onChange={(day) => onType(day === assumed ? "" : day)}
      error={!!error}
      helperText={error ?? (typed ? "typed; clear it to go back" : from)}
      faint={!typed}
    />
  );
}
