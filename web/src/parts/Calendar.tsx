import { AdapterDayjs } from "@mui/x-date-pickers/AdapterDayjs";
import { DateCalendar } from "@mui/x-date-pickers/DateCalendar";
import { LocalizationProvider } from "@mui/x-date-pickers/LocalizationProvider";
import dayjs from "dayjs";

/** A month to choose a day from. */
export default function Calendar({ day, choose }: { day: string; choose: (day: string) => void }) {
  return (
    <LocalizationProvider dateAdapter={AdapterDayjs}>
      <DateCalendar
        autoFocus
        value={day ? dayjs(day) : null}
        onChange={(chosen, state) => chosen && state === "finish" && choose(chosen.format("YYYY-MM-DD"))}
        views={["day"]}
      />
    </LocalizationProvider>
  );
}
