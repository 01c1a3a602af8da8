import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import Dialog from "@mui/material/Dialog";
import FormControlLabel from "@mui/material/FormControlLabel";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { type ReactNode, useRef, useState } from "react";
import { newKey } from "../api/client";
import { useAsking } from "./asking";
import { DateInput } from "./DateInput";

const Body = styled("form")({
  padding: "18px 22px 16px",
  width: 460,
  display: "flex",
  flexDirection: "column",
  gap: 14,
  "& h2": { margin: 0, fontSize: 18 },
  "& .what": { color: "var(--ink-2)", margin: "-6px 0 2px" },
  "& .wrong": { color: "var(--stop)", margin: 0 },
  "& .foot": { display: "flex", gap: 10, marginTop: 2 },
});

export interface FormField {
  name: string;
  label: string;
  value?: string;
  hint?: string;
  kind?: "text" | "password" | "date" | "tick" | "words";
  choices?: [value: string, label: string][];
  right?: boolean;
  /** Told of each value as it is typed, where what is shown depends on it. */
  changed?: (value: string) => void;
}

interface Props {
  title: string;
  children?: ReactNode;
  fields: FormField[];
  yes: string;
  /** What leaves it; “Close” where the action itself cancels a document. */
  no?: string;
  /** Carries it out, with a key that stays the same for every try of what was typed. */
  run: (values: Record<string, string>, key: string) => Promise<void>;
  close: () => void;
  /** Whether it stays as it was carried out: there is more to do in it. */
  keepsOpen?: boolean;
}

/** A date of a form: sent under its name. */
function AskedDate({ field, autoFocus, wrong }: { field: FormField; autoFocus: boolean; wrong: string | undefined }) {
  const [day, setDay] = useState(field.value ?? "");
  return (
    <DateInput
      name={field.name}
      label={field.label}
      value={day}
      onChange={(next) => {
        setDay(next);
        field.changed?.(next);
      }}
      autoFocus={autoFocus}
      error={!!wrong}
      helperText={wrong ?? field.hint}
    />
  );
}

/** Asks for a few values and does one thing with them. What is wrong stands at its field. */
export function FormAsk({ title, children, fields, yes, no = "Cancel", run, close, keepsOpen }: Props) {
  const key = useRef(newKey());
  const { send, busy, wrong, elsewhere } = useAsking(
    fields.map((field) => field.name),
    (values) => run(values, key.current),
    {
      done: () => !keepsOpen && close(),
      refused: (problem) => {
        // What was refused was not done; what is typed next is another request.
        if (problem.code !== "unreachable") {
          key.current = newKey();
        }
      },
    },
  );
  return (
    <Dialog open onClose={() => !busy && close()} aria-labelledby="form-title" maxWidth={false}>
      <Body onSubmit={send} noValidate>
        <h2 id="form-title">{title}</h2>
        {children && <div className="what">{children}</div>}
        {fields.map((field, position) =>
          field.kind === "tick" ? (
            <FormControlLabel
              key={field.name}
              label={field.label}
              control={<Checkbox name={field.name} defaultChecked={field.value === "on"} />}
            />
          ) : field.kind === "date" ? (
            <AskedDate
              key={field.name}
              field={field}
              autoFocus={position === 0}
              wrong={wrong?.field === field.name ? wrong.message : undefined}
            />
          ) : (
            <TextField
              key={field.name}
              name={field.name}
              label={field.label}
              defaultValue={field.value ?? ""}
              type={field.kind === "password" ? "password" : "text"}
              select={!!field.choices}
              multiline={field.kind === "words"}
              autoFocus={position === 0}
              onKeyDown={(event) => {
                // The button says Enter; Shift+Enter makes a new line of words.
                const sends = field.kind === "words" ? !event.shiftKey : !!field.choices;
                if (sends && event.key === "Enter") {
                  event.preventDefault();
                  (event.target as HTMLTextAreaElement | HTMLSelectElement).form?.requestSubmit();
                }
              }}
              onChange={(event) => field.changed?.(event.target.value)}
              onFocus={(event) => field.right && (event.target as HTMLInputElement).select()}
              error={wrong?.field === field.name}
              helperText={wrong?.field === field.name ? wrong.message : field.hint}
              slotProps={{
                select: { native: true },
                htmlInput: {
                  autoComplete: field.kind === "password" ? "new-password" : "off",
                  spellCheck: field.kind === "words",
                  style: field.right ? { textAlign: "right" } : {},
                },
              }}
            >
              {field.choices?.map(([value, label]) => (
                <option key={value} value={value}>
                  {label}
                </option>
              ))}
            </TextField>
          ),
        )}
        {elsewhere && (
          <p className="wrong" role="alert">
            ◆ {elsewhere}
          </p>
        )}
        <div className="foot">
          <Button type="submit" variant="contained" disabled={busy} autoFocus={fields.length === 0}>
            {busy ? "One moment…" : yes} <kbd>Enter</kbd>
          </Button>
          <Button variant="text" onClick={close} disabled={busy}>
            {no} <kbd>Esc</kbd>
          </Button>
        </div>
      </Body>
    </Dialog>
  );
}
