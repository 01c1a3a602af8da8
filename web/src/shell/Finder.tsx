import Dialog from "@mui/material/Dialog";
import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { type KeyboardEvent as ReactKeyboardEvent, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import { placeOf } from "../places";
import { useKeys } from "./keys";

const Opener = styled("button")({
  position: "absolute",
  right: 20,
  top: 14,
  border: "1px solid var(--line-strong)",
  borderRadius: 6,
  background: "var(--sheet)",
  padding: "6px 10px",
  color: "var(--ink-3)",
  width: 210,
  display: "flex",
  justifyContent: "space-between",
  alignItems: "center",
  font: "inherit",
  cursor: "text",
  "@media (max-width: 819px)": { position: "static", width: "100%", marginBottom: 10 },
});

const Body = styled("div")({
  width: 520,
  padding: 14,
  "& input": {
    width: "100%",
    font: "inherit",
    fontSize: 18,
    padding: "8px 10px",
    border: "1px solid var(--line-strong)",
    borderRadius: 6,
    background: "var(--paper)",
    color: "var(--ink)",
  },
  "& ul": { listStyle: "none", margin: "10px 0 0", padding: 0, maxHeight: 380, overflowY: "auto" },
  "& li": {
    display: "grid",
    gridTemplateColumns: "96px 1fr auto",
    gap: 10,
    padding: "7px 10px",
    borderRadius: 5,
    cursor: "pointer",
  },
  "& li.on": { background: "var(--here-wash)", boxShadow: "inset 3px 0 0 var(--here)" },
  "& li b": { fontWeight: 650 },
  "& .kind": { color: "var(--ink-3)", fontSize: 13 },
  "& p": { color: "var(--ink-2)", margin: "12px 4px 2px" },
});

interface Choice {
  key: string;
  head: string;
  text: string;
  kind: string;
  go: () => void;
}

const rooms = [
  ["Day sheet", "/"],
  ["Orders", "/orders"],
  ["New order", "/orders/new"],
  ["Open order lines", "/orders/lines"],
  ["Quotes", "/orders/quotes"],
  ["New quote", "/quotes/new"],
  ["Blanket orders", "/orders/blanket"],
  ["Files of orders and shipments", "/orders/files"],
  ["Shipments", "/shipments"],
  ["Unbilled", "/billing"],
  ["Invoices", "/billing/invoices"],
  ["Receipts", "/receipts"],
  ["New receipt", "/receipts/new"],
  ["Bank deposit slips", "/bank-slips"],
  ["Bank statements", "/bank"],
  ["Disputes", "/disputes"],
  ["Orders to finish", "/orders/to-finish"],
  ["Journal", "/ledger"],
  ["Trial balance", "/ledger/trial-balance"],
  ["Customers", "/customers"],
  ["New customer", "/customers/new"],
  ["Items", "/items"],
  ["Prices", "/items/prices"],
  ["Company", "/setup"],
  ["Goods and tax", "/setup/goods"],
  ["Custom fields and codes", "/setup/fields"],
  ["Handbook", "/handbook"],
  ["People", "/setup/people"],
  ["Limits and rights", "/setup/limits"],
  ["Numbers", "/setup/numbers"],
  ["Periods", "/setup/periods"],
  ["Opening balances", "/setup/opening"],
  ["Open items", "/ledger/open-items"],
  ["Record", "/setup/record"],
  ["My sign-in", "/me"],
] as const;

/** Ctrl K: any document, customer, room or action of this screen. */
export function Finder() {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const { actions } = useKeys();
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() === "k" && (event.ctrlKey || event.metaKey)) {
        event.preventDefault();
        setText("");
        setAt(0);
        setOpen(true);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  const wanted = text.trim();
  const found = useQuery({
    queryKey: ["find", wanted],
    queryFn: () => got(api.GET("/api/find", { params: { query: { q: wanted } } })),
    enabled: open && wanted.length > 0,
    placeholderData: (before) => before,
  });
  const close = (go?: () => void) => {
    setOpen(false);
    go?.();
  };
  const fits = (words: string) => words.toLowerCase().includes(wanted.toLowerCase());
  const documents: Choice[] = (wanted ? (found.data ?? []) : []).map((hit) => ({
    key: `${hit.document.kind}${hit.document.id}`,
    head: hit.document.number,
    text: hit.text,
    kind: hit.document.kind,
    go: () => navigate(placeOf(hit.document)),
  }));
  const places: Choice[] = rooms
    .filter(([name]) => fits(name))
    .map(([name, to]) => ({ key: to, head: name, text: "", kind: "room", go: () => navigate(to) }));
  const doings: Choice[] = actions
    .filter((action) => !action.disabled && !action.shownOnly && fits(action.label))
    .map((action) => ({ key: `do ${action.label}`, head: action.label, text: "", kind: "do", go: action.run }));
  const exact = found.data?.some((hit) => hit.exact) ?? false;
  const choices = exact ? documents : [...places, ...documents, ...doings];
  const chosen = choices[Math.min(at, choices.length - 1)];
  const press = (event: ReactKeyboardEvent) => {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      const step = event.key === "ArrowDown" ? 1 : -1;
      setAt((before) => Math.max(0, Math.min(choices.length - 1, before + step)));
    } else if (event.key === "Enter" && chosen && !found.isFetching) {
      event.preventDefault();
      close(chosen.go);
    }
  };
  return (
    <>
      <Opener type="button" onClick={() => setOpen(true)}>
        Find anything <kbd>Ctrl K</kbd>
      </Opener>
      <Dialog open={open} onClose={() => setOpen(false)} aria-label="Find anything">
        <Body>
          <input
            autoFocus
            role="combobox"
            aria-expanded="true"
            aria-controls="found"
            aria-activedescendant={chosen ? `found-${chosen.key}` : undefined}
            aria-label="Number, name or room"
            placeholder="Number, name or room"
            value={text}
            onChange={(event) => {
              setText(event.target.value);
              setAt(0);
            }}
            onKeyDown={press}
          />
          <ul role="listbox" id="found" aria-label="Found">
            {choices.map((choice) => (
              // biome-ignore lint/a11y/useKeyWithClickEvents: the keys are those of the field above.
              <li
                key={choice.key}
                id={`found-${choice.key}`}
                role="option"
                aria-selected={choice === chosen}
                className={choice === chosen ? "on" : ""}
                onClick={() => close(choice.go)}
              >
                <b>{choice.head}</b>
                <span>{choice.text}</span>
                <span className="kind">{choice.kind}</span>
              </li>
            ))}
          </ul>
          {wanted && found.data && choices.length === 0 && (
            <p>Nothing has “{wanted}” in its number or name. Try part of it.</p>
          )}
        </Body>
      </Dialog>
    </>
  );
}
