import TextField from "@mui/material/TextField";

/** One of a few, in a cell of a table. */
export function Choice({
  label,
  value,
  choices,
  none,
  wrong,
  choose,
}: {
  label: string;
  value: string;
  choices: { code: string; name: string }[];
  /** What stands for none of them; left out where one must be chosen. */
  none?: string;
  wrong?: boolean;
  choose: (code: string) => void;
}) {
  return (
    <TextField
      select
      value={value}
      onChange={(event) => choose(event.target.value)}
      error={!!wrong}
      fullWidth
      sx={{ minWidth: 172, display: "block", "&:not(:first-of-type)": { marginTop: "4px" } }}
      slotProps={{ select: { native: true }, htmlInput: { "aria-label": label } }}
    >
      {none !== undefined && <option value="">{none}</option>}
      {choices.map((one) => (
        <option key={one.code} value={one.code}>
          {one.name}
        </option>
      ))}
    </TextField>
  );
}
