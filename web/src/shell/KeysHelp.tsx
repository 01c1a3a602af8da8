import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import Dialog from "@mui/material/Dialog";
import FormControlLabel from "@mui/material/FormControlLabel";
import { styled } from "@mui/material/styles";
import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { keyName, useKeys } from "./keys";

const Body = styled("div")({
  padding: "18px 22px",
  "& h2": { margin: "0 0 10px", fontSize: 18 },
  "& dl": { display: "grid", gridTemplateColumns: "90px 1fr", rowGap: 7, margin: 0 },
  "& dt, & dd": { margin: 0 },
  "& .foot": { display: "flex", justifyContent: "space-between", alignItems: "center", gap: 20, marginTop: 16 },
});

const everywhere: [string, string][] = [
  ["Ctrl K", "Find any document, customer, or screen"],
  ["/", "Search and filter this list"],
  ["↑ ↓", "Move in a list"],
  ["Space", "Select a row; with Shift and arrows a range"],
  ["Enter", "Open the row"],
  ["Ctrl Enter", "Do the main thing, also from a field"],
  ["Esc", "Out of a field; from there, back"],
  ["F1", "The handbook"],
];

/** The keys of this screen, and the switch for single letters (WCAG 2.1.4). */
export function KeysHelp() {
  const [open, setOpen] = useState(false);
  const navigate = useNavigate();
  const { actions, letters, setLetters } = useKeys();
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement && ["INPUT", "TEXTAREA", "SELECT"].includes(event.target.tagName);
      if (event.key === "F1") {
        event.preventDefault();
        setOpen(false);
        navigate("/handbook");
      }
      if (event.key === "?" && !typing && !document.querySelector("[role=dialog]")) {
        event.preventDefault();
        setOpen(true);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [navigate]);
  const own = actions.filter((action) => !["Escape"].includes(action.key));
  return (
    <Dialog open={open} onClose={() => setOpen(false)} aria-labelledby="keys-title">
      <Body>
        <h2 id="keys-title">Keys on this screen</h2>
        <dl>
          {own.map((action) => (
            <Row
              key={action.label}
              name={keyName(action.key)}
              label={action.label}
              run={
                action.disabled || action.shownOnly
                  ? undefined
                  : () => {
                      setOpen(false);
                      action.run();
                    }
              }
            />
          ))}
          {everywhere
            .filter(([name]) => !own.some((action) => keyName(action.key) === name))
            .map(([name, label]) => (
              <Row key={name} name={name} label={label} />
            ))}
        </dl>
        <div className="foot">
          <FormControlLabel
            label="Single letters act"
            control={<Checkbox checked={letters} onChange={(event) => setLetters(event.target.checked)} />}
          />
          <Link to="/handbook" onClick={() => setOpen(false)}>
            Handbook
          </Link>
          <Button variant="contained" onClick={() => setOpen(false)} autoFocus>
            Close <kbd>Esc</kbd>
          </Button>
        </div>
      </Body>
    </Dialog>
  );
}

/** A key and what it does; what can be done now is done by a click too. */
function Row({ name, label, run }: { name: string; label: string; run?: (() => void) | undefined }) {
  return (
    <>
      <dt>{name && <kbd>{name}</kbd>}</dt>
      <dd>
        {run ? (
          <button type="button" className="quietly" onClick={run}>
            {label}
          </button>
        ) : (
          label
        )}
      </dd>
    </>
  );
}
