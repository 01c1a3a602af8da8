import { styled } from "@mui/material/styles";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useId, useState } from "react";
import { api, got } from "../../api/client";
import type { ItemRow } from "../../api/types";
import { number, price } from "../../format";

const Box = styled("div")({
  position: "relative",
  "& ul": {
    position: "absolute",
    zIndex: 20,
    left: 0,
    top: "100%",
    width: 470,
    margin: "2px 0 0",
    padding: 4,
    listStyle: "none",
    background: "var(--sheet)",
    border: "1px solid var(--line-strong)",
    borderRadius: 8,
    boxShadow: "0 6px 18px rgb(36 42 30 / 14%)",
  },
  "& li": {
    display: "grid",
    gridTemplateColumns: "70px minmax(0, 1fr) 74px 96px",
    gap: 8,
    padding: "5px 8px",
    borderRadius: 5,
    cursor: "pointer",
  },
  "& li.on": { background: "var(--here-wash)", boxShadow: "inset 3px 0 0 var(--here)" },
  "& li span": { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" },
  "& li .right": { textAlign: "right", color: "var(--ink-2)" },
});

interface Props {
  value: string;
  label: string;
  wrong: boolean;
  onType: (text: string) => void;
  onChoose: (item: ItemRow) => void;
  /** Enter where nothing is typed. */
  onEnter: () => void;
  onFocus: () => void;
  onKey: (event: KeyboardEvent<HTMLInputElement>) => void;
  id: string;
}

/** An item by code or words: what fits lies open below while it is typed, Enter takes the first. */
export function ItemInput({ value, label, wrong, onType, onChoose, onEnter, onFocus, onKey, id }: Props) {
  const list = useId();
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const wanted = value.trim();
  const found = useQuery({
    queryKey: ["item-search", wanted],
    queryFn: () => got(api.GET("/api/items", { params: { query: { q: wanted, sold: true, limit: 8 } } })),
    enabled: open && wanted.length > 0,
    placeholderData: keepPreviousData,
  });
  const items = open && wanted ? (found.data?.items ?? []) : [];
  const chosen = items[Math.min(at, items.length - 1)];
  const take = async () => {
    // Typed faster than the list came: the answer is waited for, so that no key is lost.
    const fresh =
      found.isPlaceholderData || !found.data
        ? await got(api.GET("/api/items", { params: { query: { q: wanted, sold: true, limit: 8 } } }))
        : undefined;
    const item = fresh ? fresh.items[0] : chosen;
    if (item) {
      setOpen(false);
      onChoose(item);
    }
  };
  return (
    <Box>
      <input
        id={id}
        role="combobox"
        aria-label={label}
        aria-expanded={items.length > 0}
        aria-controls={list}
        aria-activedescendant={chosen && open ? `${list}-${chosen.id}` : undefined}
        aria-autocomplete="list"
        aria-invalid={wrong}
        autoComplete="off"
        value={value}
        onFocus={onFocus}
        onBlur={() => setOpen(false)}
        onChange={(event) => {
          setOpen(true);
          setAt(0);
          onType(event.target.value);
        }}
        onKeyDown={(event) => {
          if (items.length > 0 && (event.key === "ArrowDown" || event.key === "ArrowUp")) {
            event.preventDefault();
            setAt((before) => Math.max(0, Math.min(items.length - 1, before + (event.key === "ArrowDown" ? 1 : -1))));
          } else if (event.key === "Enter" && !event.ctrlKey) {
            event.preventDefault();
            if (wanted && open) {
              take();
            } else {
              onEnter();
            }
          } else if (event.key === "Tab" && !event.shiftKey && wanted && open && chosen) {
            event.preventDefault();
            take();
          } else if (event.key === "Escape" && open && items.length > 0) {
            event.stopPropagation();
            setOpen(false);
          } else {
            onKey(event);
          }
        }}
      />
      {items.length > 0 && (
        <ul id={list} role="listbox" aria-label="Items that fit">
          {items.map((item) => (
            <li
              key={item.id}
              id={`${list}-${item.id}`}
              role="option"
              aria-selected={item === chosen}
              className={item === chosen ? "on" : ""}
              onMouseDown={(event) => {
                event.preventDefault();
                setOpen(false);
                onChoose(item);
              }}
            >
              <b>{item.code}</b>
              <span>{item.name}</span>
              <span className="right">{price(item.list_price)}</span>
              <span className="right">
                {item.kind === "goods" ? `${number(item.available)} ${item.unit} free` : item.kind}
              </span>
            </li>
          ))}
        </ul>
      )}
    </Box>
  );
}
