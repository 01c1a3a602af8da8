import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import { styled } from "@mui/material/styles";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { newKey, Problem } from "../api/client";

const Body = styled("form")({
  padding: "18px 22px 16px",
  minWidth: 420,
  maxWidth: 560,
  "& > h2": { margin: "0 0 10px", fontSize: 18 },
  "& .what": { color: "var(--ink-2)" },
  "& .wrong": { color: "var(--stop)", margin: "10px 0 0" },
  "& .foot": { display: "flex", gap: 10, marginTop: 16 },
});

interface Props {
  title: string;
  children: ReactNode;
  /** What the button says. */
  yes: string;
  /**
   * Carries it out; `false` to stay. The key is the same for every try, so that a second click does
   * nothing twice.
   */
  run: (key: string) => Promise<unknown>;
  close: () => void;
  /** What the button says while it runs. */
  busyWords?: string;
  /** What the other button says and does, where leaving it is a choice too. */
  no?: string;
  refuse?: () => Promise<void>;
  /** Where a second Enter out of habit would do harm, no button has the focus. */
  careful?: boolean;
  /** Where a field of it has the focus first, not the button. */
  field?: boolean;
  /** Where what is asked is still being worked out. */
  disabled?: boolean;
  /** Where what is asked is a table. */
  wide?: boolean;
}

/** Asks once, with what it will do. Mounted when the question arises. */
export function Ask({
  title,
  children,
  yes,
  run,
  close,
  busyWords = "Posting…",
  no = "Cancel",
  refuse,
  careful,
  field = false,
  disabled = false,
  wide = false,
}: Props) {
  const key = useRef(newKey());
  // Two clicks in one breath come before the button can be drawn disabled.
  const running = useRef(false);
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState<string>();
  // A button that was disabled when the question came up could not take the focus then.
  const form = useRef<HTMLFormElement>(null);
  useEffect(() => {
    if (!disabled && !careful && !form.current?.contains(document.activeElement)) {
      form.current?.querySelector<HTMLElement>("button[type=submit]")?.focus();
    }
  }, [disabled, careful]);
  const go = async () => {
    if (running.current || disabled) {
      return;
    }
    running.current = true;
    setBusy(true);
    setWrong(undefined);
    try {
      if ((await run(key.current)) === false) {
        setBusy(false);
        running.current = false;
        return;
      }
      close();
    } catch (error) {
      setWrong(error instanceof Problem ? error.message : String(error));
      setBusy(false);
      running.current = false;
    }
  };
  return (
    <Dialog open onClose={() => !busy && (refuse ?? close)()} aria-labelledby="ask-title" maxWidth={false}>
      <Body
        ref={form}
        style={wide ? { width: 760, maxWidth: "92vw" } : undefined}
        noValidate
        onSubmit={(event) => {
          event.preventDefault();
          event.stopPropagation();
          void go();
        }}
      >
        <h2 id="ask-title">{title}</h2>
        <div className="what">{children}</div>
        {wrong && (
          <p className="wrong" role="alert">
            ◆ {wrong}
          </p>
        )}
        <div className="foot">
          <Button type="submit" variant="contained" disabled={busy || disabled} autoFocus={!careful && !field}>
            {busy ? busyWords : yes} {!careful && <kbd>Enter</kbd>}
          </Button>
          <Button variant="text" onClick={refuse ?? close} disabled={busy}>
            {no} <kbd>Esc</kbd>
          </Button>
        </div>
      </Body>
    </Dialog>
  );
}
