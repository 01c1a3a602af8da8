import MenuItem from "@mui/material/MenuItem";
import MenuList from "@mui/material/MenuList";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, Problem } from "../../api/client";
import type { ProposalView } from "../../api/types";
import { money, typedDecimal } from "../../format";
import { useSettled } from "../../parts/bits";
import { Ask } from "../../shell/Ask";
import { Does, type LineAskProps, STILL, useWhatItDoes } from "./asks";
import { reasons } from "./words";

/** What a line is, looked for by a number, a name, an amount or what was noted, where nothing that is suggested fits. */
export function FindAsk({ line, currency, close, run }: LineAskProps) {
  const [typed, setTyped] = useState("");
  const [chosen, setChosen] = useState<ProposalView>();
  // An amount is sent as the server reads it, whatever stands between its thousands.
  const plain = /^[\d.,'\s]+$/.test(typed) ? typedDecimal(typed) : typed.trim();
  const wanted = useSettled(plain);
  const found = useQuery({
    queryKey: ["bank-line", "find", line.id, wanted],
    queryFn: () =>
      got(api.GET("/api/bank-lines/{id}/find", { params: { path: { id: line.id }, query: { q: wanted } } })),
    enabled: wanted.length > 1,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const options = wanted.length > 1 ? (found.data ?? []) : [];
  const { does, seen, error } = useWhatItDoes(line, chosen?.accept);
  return (
    <Ask
      title={`What is line ${line.place}? ${money(line.left, currency)} ${currency}`}
      yes={chosen ? `Accept · ${chosen.words}` : "Accept"}
      close={close}
      wide
      field
      run={async (key) => {
        if (!chosen || !seen) {
          throw error ?? new Problem({ title: chosen ? STILL : "Choose what it is." });
        }
        await run(key, chosen.accept, seen.fingerprint);
      }}
    >
      <TextField
        label="Number, name, amount or what was noted"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setChosen(undefined);
        }}
        autoFocus
        fullWidth
        helperText={
          options.length === 0 && wanted.length > 1 && !found.isFetching
            ? "Nothing that is open fits. Try a part of the name, or the amount."
            : "↓ goes to what was found"
        }
        onKeyDown={(event) => {
          if (event.key === "ArrowDown" && options.length > 0) {
            event.preventDefault();
            const dialog = event.currentTarget.closest("[role=dialog]");
            dialog?.querySelector<HTMLElement>("[role=menuitemradio]")?.focus();
          }
        }}
      />
      {options.length > 0 && (
        <MenuList aria-label="What was found" dense sx={{ maxHeight: 190, overflowY: "auto" }}>
          {options.map((one) => (
            <MenuItem
              key={JSON.stringify(one.accept)}
              role="menuitemradio"
              aria-checked={one === chosen}
              selected={one === chosen}
              onClick={() => setChosen(one)}
              onFocus={() => setChosen(one)}
              onKeyDown={(event) => {
                if (event.key === "Enter") {
                  event.preventDefault();
                  event.currentTarget.closest("form")?.requestSubmit();
                }
              }}
            >
              <span style={{ flex: 1 }}>{one.words}</span>
              <span className="dim">
                {one.because
                  .filter((why) => why !== "searched")
                  .map((why) => reasons[why])
                  .join("; ")}
              </span>
            </MenuItem>
          ))}
        </MenuList>
      )}
      {error && <p role="alert">{error.message}</p>}
      {does && <Does does={does} />}
    </Ask>
  );
}
