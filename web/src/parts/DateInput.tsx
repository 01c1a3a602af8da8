import IconButton from "@mui/material/IconButton";
import InputAdornment from "@mui/material/InputAdornment";
import Popover from "@mui/material/Popover";
import TextField, { type TextFieldProps } from "@mui/material/TextField";
import { type KeyboardEvent, lazy, Suspense, useEffect, useRef, useState } from "react";
import { date } from "../format";
import { useToday } from "./bits";
import { daysAfter, isDay, monthsAfter, typedDay } from "./dates";

// The calendar comes once it is asked for.
const Calendar = lazy(() => import("./Calendar"));

/** What the keys move a day to. */
const moves = new Map<string, (day: string) => string>([
  ["ArrowUp", (day) => daysAfter(day, 1)],
  ["ArrowDown", (day) => daysAfter(day, -1)],
  ["PageUp", (day) => monthsAfter(day, 1)],
  ["PageDown", (day) => monthsAfter(day, -1)],
]);

/** How long typing rests before what was typed holds. */
const REST = 500;

type Passed = "label" | "error" | "helperText" | "disabled" | "autoFocus" | "fullWidth" | "required" | "sx";

interface Props extends Pick<TextFieldProps, Passed> {
  /** 2026-03-18, or empty. What is no day stays as it was typed, and the server refuses it. */
  value: string;
  onChange: (day: string) => void;
  /** Names the day in a form that is sent. */
  name?: string;
  /** For screen readers, where no label stands at it. */
  title?: string;
  /** Said in a fainter ink: nobody typed it. */
  faint?: boolean;
  onEnter?: () => void;
  onLeave?: () => void;
}

/**
 * A date: shows 18 Mar 2026 and takes what people type, `18/3` or `+14` too. Up and down move it by a day, Page up and
 * Page down by a month, Alt with Down opens the calendar.
 */
export function DateInput({ value, onChange, name, title, faint, onEnter, onLeave, ...field }: Props) {
  const today = useToday();
  // What is being typed; nothing while the value says it.
  const [typing, setTyping] = useState<string>();
  const [opened, setOpened] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const rest = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => () => clearTimeout(rest.current), []);
  const shown = typing ?? (isDay(value) ? date(value) : value);
  // What was typed, as a day; as it stands where it is none.
  const meant = typing === undefined ? value : typing.trim() === "" ? "" : (typedDay(typing, today) ?? typing.trim());
  const wrong = meant !== "" && !isDay(meant);
  const told = wrong && typing === undefined;
  const settle = (day: string) => {
    clearTimeout(rest.current);
    if (day !== value) {
      onChange(day);
    }
  };
  const type = (text: string) => {
    setTyping(text);
    clearTimeout(rest.current);
    const day = text.trim() === "" ? "" : typedDay(text, today);
    if (day !== undefined) {
      rest.current = setTimeout(() => settle(day), REST);
    }
  };
  const set = (day: string) => {
    setTyping(undefined);
    settle(day);
  };
  const press = (event: KeyboardEvent) => {
    const from = isDay(meant) ? meant : today;
    const move = moves.get(event.key);
    if (event.altKey && event.key === "ArrowDown") {
      event.preventDefault();
      setOpened(true);
    } else if (move && from && !event.ctrlKey && !event.metaKey) {
      event.preventDefault();
      set(move(from));
    } else if (event.key === "Enter") {
      settle(meant);
      if (onEnter && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        onEnter();
      }
    }
  };
  return (
    <>
      <TextField
        {...field}
        ref={box}
        value={shown}
        onChange={(event) => type(event.target.value)}
        onFocus={(event) => (event.target as HTMLInputElement).select()}
        onBlur={() => {
          settle(meant);
          setTyping(undefined);
          onLeave?.();
        }}
        onKeyDown={press}
        error={field.error || told}
        helperText={
          told && !field.error ? `${meant} is not a date. Write 18 Mar 2026, 18/3, or +14.` : field.helperText
        }
        slotProps={{
          htmlInput: {
            "aria-label": title,
            "data-date": name ?? "",
            style: faint && typing === undefined ? { color: "var(--ink-2)" } : undefined,
          },
          input: {
            endAdornment: (
              <InputAdornment position="end">
                <IconButton
                  size="small"
                  tabIndex={-1}
                  aria-label={`Calendar for ${title ?? field.label}`}
                  disabled={!!field.disabled}
                  onClick={() => setOpened(true)}
                  sx={{ padding: "2px", marginRight: "-4px", color: "var(--ink-3)" }}
                >
                  <svg width="15" height="15" viewBox="0 0 15 15" fill="none" stroke="currentColor" aria-hidden="true">
                    <rect x="1.5" y="3" width="12" height="10.5" rx="1.5" />
                    <path d="M1.5 6.5h12M4.8 1.2v3M10.2 1.2v3" />
                  </svg>
                </IconButton>
              </InputAdornment>
            ),
          },
        }}
      />
      {name !== undefined && <input type="hidden" name={name} value={meant} />}
      {opened && (
        <Popover
          open
          onClose={() => setOpened(false)}
          anchorEl={box.current}
          anchorOrigin={{ vertical: "bottom", horizontal: "left" }}
        >
          <Suspense fallback={<div style={{ width: 300, height: 320 }} />}>
            <Calendar
              day={isDay(meant) ? meant : today}
              choose={(day) => {
                set(day);
                setOpened(false);
              }}
            />
          </Suspense>
        </Popover>
      )}
    </>
  );
}
