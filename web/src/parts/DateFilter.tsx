import { DateInput } from "./DateInput";
import { isDay } from "./dates";

/** A date a list is filtered by; what is no date changes nothing. */
export function DateFilter({
  label,
  value,
  assumed = "",
  set,
}: {
  label: string;
  value: string;
  /** The day that holds while none is chosen. */
  assumed?: string;
  set: (day: string) => void;
}) {
  return (
    <span className="date">
      {label}
      <DateInput
        title={label}
        value={value || assumed}
        faint={!value}
        onChange={(day) => (day === "" || isDay(day)) && set(day === assumed ? "" : day)}
      />
    </span>
  );
}
