import InputAdornment from "@mui/material/InputAdornment";
import MenuItem from "@mui/material/MenuItem";
import Select from "@mui/material/Select";

/** In which currency money came; beside the amount, whose label says which one it is. */
export function OtherCurrency({
  currency,
  currencies,
  open,
  setOpen,
  choose,
  chosen,
}: {
  currency: string;
  currencies: string[];
  open: boolean;
  setOpen: (open: boolean) => void;
  choose: (currency: string) => void;
  /** Once it is closed again. */
  chosen: () => void;
}) {
  return (
    <InputAdornment position="start">
      <Select
        variant="standard"
        disableUnderline
        title="The money is in another currency"
        open={open}
        onOpen={() => setOpen(true)}
        onClose={() => {
          setOpen(false);
          window.setTimeout(chosen);
        }}
        MenuProps={{ disableRestoreFocus: true }}
        // Nobody tabs through it on the way to the amount; a key opens it.
        SelectDisplayProps={{ tabIndex: -1 }}
        renderValue={() => ""}
        sx={{ "& .MuiSelect-select": { minWidth: "0 !important", paddingRight: "20px !important" } }}
        value={currency}
        onChange={(event) => choose(event.target.value)}
        inputProps={{ "aria-label": "Currency of the money" }}
      >
        {(currencies.includes(currency) ? currencies : [currency, ...currencies]).map((one) => (
          <MenuItem key={one} value={one}>
            {one}
          </MenuItem>
        ))}
      </Select>
    </InputAdornment>
  );
}
