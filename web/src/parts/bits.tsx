import { styled } from "@mui/material/styles";
import { type QueryKey, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useCallback, useEffect, useRef, useState } from "react";
import { NavLink, useSearchParams } from "react-router";
import { api, got } from "../api/client";
import type { Blocker } from "../api/types";
import { plural } from "../format";

/** Base currency of the books. */
export function useBase(): string {
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")) });
  return spine.data?.base_currency ?? "EUR";
}

/** The currencies a rate is known of, the base currency first. */
export function useCurrencies(): string[] {
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")) });
  return spine.data?.currencies ?? [];
}

/** The business date. */
export function useToday(): string {
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")) });
  return spine.data?.business_date ?? "";
}

/** After a posting nothing that was read before is sure to be true; what is gone is not asked for again. */
export function useEverythingChanged(): (gone?: QueryKey) => Promise<void> {
  const queries = useQueryClient();
  return useCallback(
    async (gone?: QueryKey) => {
      const name = JSON.stringify(gone);
      await queries.invalidateQueries({ predicate: (query) => JSON.stringify(query.queryKey) !== name });
    },
    [queries],
  );
}

/**
 * After a change of one document that moves nothing else, such as a draft: only what was named is asked for
 * again; all else that was read counts as old, and is asked for when it is looked at the next time.
 */
export function useDocumentChanged(): (...named: QueryKey[]) => Promise<void> {
  const queries = useQueryClient();
  return useCallback(
    async (...named: QueryKey[]) => {
      await queries.invalidateQueries({ refetchType: "none" });
      await Promise.all(named.map((queryKey) => queries.refetchQueries({ queryKey, type: "active" })));
    },
    [queries],
  );
}

export const Chips = styled("div")({
  display: "flex",
  flexWrap: "wrap",
  // A full list below does not push the second row over the next.
  flexShrink: 0,
  gap: "10px 10px",
  alignItems: "center",
  marginBottom: 10,
  fontSize: 14,
  color: "var(--ink-2)",
  minHeight: 30,
  "& button, & a": {
    border: 0,
    background: "none",
    font: "inherit",
    color: "inherit",
    textDecoration: "none",
    padding: "2px 6px",
    // Large enough to be hit, whatever stands above or below.
    minHeight: 24,
    minWidth: 24,
    cursor: "pointer",
    whiteSpace: "nowrap",
  },
  // The lists of one screen.
  "& .tabs": { display: "flex", gap: 6 },
  "& .tabs a": { borderBottom: "2px solid transparent", padding: "2px 6px 3px" },
  "& .tabs .on": { borderBottomColor: "var(--ink)", color: "var(--ink)", fontWeight: 650 },
  // One of a few states.
  "& .pills": {
    display: "inline-flex",
    border: "1px solid var(--control)",
    borderRadius: 6,
    overflow: "hidden",
    background: "var(--sheet)",
  },
  "& .pills button": { minHeight: 28, padding: "2px 9px", borderRadius: 0 },
  "& .pills button + button": { borderLeft: "1px solid var(--line)" },
  "& .pills .on": { background: "var(--ink)", color: "var(--sheet)" },
  "& .pills button:focus-visible": { outlineOffset: -3, boxShadow: "inset 0 0 0 5px var(--here)" },
  // A filter that is on and can be taken away.
  "& button.only": { border: "1px solid var(--control)", borderRadius: 6, background: "var(--here-wash)" },
  "& .gap": { width: 6 },
  "& .date": { display: "inline-flex", gap: 6, alignItems: "center" },
  "& .date .MuiTextField-root": { width: 152 },
  "& .date input": { border: 0, width: "100%", minWidth: 0, background: "none" },
  "& .MuiIconButton-root": { minHeight: 0, minWidth: 0 },
  "& input": {
    font: "inherit",
    border: "1px solid var(--control)",
    borderRadius: 6,
    background: "var(--sheet)",
    color: "var(--ink)",
    padding: "3px 8px",
    height: 30,
    width: 158,
    minWidth: 110,
  },
  "& select": {
    font: "inherit",
    border: "1px solid var(--control)",
    borderRadius: 6,
    backgroundColor: "var(--sheet)",
    color: "var(--ink)",
    padding: "3px 24px 3px 8px",
    maxWidth: 142,
    textOverflow: "ellipsis",
    height: 30,
  },
  "& .end": { marginLeft: "auto" },
});

/** A filter that lives in the address. */
export function useFilter(name: string): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams();
  const value = params.get(name) ?? "";
  const set = useCallback(
    (next: string) => {
      setParams(
        (before) => {
          const after = new URLSearchParams(before);
          if (next) {
            after.set(name, next);
          } else {
            after.delete(name);
          }
          return after;
        },
        { replace: true },
      );
    },
    [name, setParams],
  );
  return [value, set];
}

/** The filter field of a list; `/` goes there, Esc and Enter lead back to the list. */
export function FilterField({ label }: { label: string }) {
  const [value, setValue] = useFilter("q");
  const field = useRef<HTMLInputElement>(null);
  const [typed, setTyped] = useState(value);
  // What this field itself has asked for comes back later than it was typed: only what comes from
  // elsewhere (a link, the back button) is written into it, or a letter typed since would be lost.
  const asked = useRef([value]);
  const put = useCallback(
    (next: string) => {
      asked.current.push(next);
      setValue(next);
    },
    [setValue],
  );
  useEffect(() => {
    const at = asked.current.indexOf(value);
    if (at === -1) {
      asked.current = [value];
      setTyped(value);
    } else {
      asked.current.splice(0, at);
    }
  }, [value]);
  useEffect(() => {
    if (typed === asked.current.at(-1)) {
      return;
    }
    const wait = setTimeout(() => put(typed), 180);
    return () => clearTimeout(wait);
  }, [typed, put]);
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      const inField =
        event.target instanceof HTMLElement && ["INPUT", "TEXTAREA", "SELECT"].includes(event.target.tagName);
      if (event.key === "/" && !inField && !document.querySelector("[role=dialog]")) {
        event.preventDefault();
        field.current?.focus();
        field.current?.select();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  return (
    <input
      ref={field}
      type="search"
      aria-label={label}
      placeholder={`${label}  /`}
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
      onKeyDown={(event) => {
        if (event.key === "Enter" || event.key === "Escape") {
          event.preventDefault();
          const next = event.key === "Escape" ? "" : typed;
          setTyped(next);
          put(next);
          focusList();
        }
      }}
    />
  );
}

/** How late something is; a mark and brick only past 60 days, or a list of what is owed would shout as a whole. */
export function Late({ days, words }: { days: number; words?: string }) {
  if (days <= 0) {
    return null;
  }
  const whole = `${plural(days, "day", "days")} late`;
  const shown = words ?? whole;
  return (
    <Marked className={days > 60 ? "stop" : "dim"} title={words && whole}>
      {days > 60 ? `◆ ${shown}` : shown}
    </Marked>
  );
}

/** Puts the focus on the list of the screen. */
export function focusList(): void {
  document.querySelector<HTMLElement>("#worktop [role=grid]")?.focus();
}

/** One choice among the states of a list. */
export function StateChips({ name, choices }: { name: string; choices: [value: string, label: string][] }) {
  const [value, set] = useFilter(name);
  return (
    <span className="pills">
      {choices.map(([choice, label]) => (
        <button
          key={choice}
          type="button"
          className={value === choice ? "on" : ""}
          aria-pressed={value === choice}
          onClick={() => set(choice)}
        >
          {label}
        </button>
      ))}
    </span>
  );
}

/** Links between the lists of one room. */
export function RoomLinks({ links }: { links: [to: string, label: string][] }) {
  return (
    <span className="tabs">
      {links.map(([to, label]) => (
        <NavLink key={to} to={to} end className={({ isActive }) => (isActive ? "on" : "")}>
          {label}
        </NavLink>
      ))}
    </span>
  );
}

/** Downloads what the list shows; `state` where the list asks for other states than its address names. */
export function ExportLink({ list, state }: { list: string; state?: string }) {
  const [params] = useSearchParams();
  const asked = new URLSearchParams(params);
  // The order is that of the screen alone.
  asked.delete("sort");
  if (state !== undefined) {
    asked.delete("state");
    if (state) {
      asked.set("state", state);
    }
  }
  const query = asked.toString();
  return (
    <a className="end" href={`/api/export/${list}.csv${query ? `?${query}` : ""}`} download>
      <svg width="12" height="12" viewBox="0 0 12 12" fill="none" stroke="currentColor" aria-hidden="true">
        <path d="M6 1v6.5M3.2 5 6 7.7 8.8 5M1.5 10.5h9" />
      </svg>{" "}
      CSV
    </a>
  );
}

export const Marked = styled("span")({
  "&.stop": { color: "var(--stop)", fontWeight: 600 },
  "&.heed": { color: "var(--heed)" },
  "&.done": { color: "var(--done)" },
  "&.dim": { color: "var(--ink-2)" },
});

/** A blocker in a list: a shape and a word, never colour alone. */
export function BlockerMark({ blockers, alone }: { blockers: Blocker[]; alone?: boolean }) {
  const first = blockers[0];
  if (!first) {
    return null;
  }
  const stops = first.effect === "stops";
  return (
    <Marked className={stops ? "stop" : "heed"} title={blockers.map((one) => one.sentence).join(" ")}>
      {alone ? "" : " · "}
      {stops ? "◆" : "▲"} {first.words}
      {alone && blockers.length > 1 && ` +${blockers.length - 1}`}
    </Marked>
  );
}

const FactsGrid = styled("dl")({
  display: "grid",
  gridTemplateColumns: "repeat(4, minmax(0, 1fr))",
  "@media (max-width: 819px)": { gridTemplateColumns: "repeat(2, minmax(0, 1fr))" },
  gap: "4px 18px",
  margin: "0 0 12px",
  "& dt": { fontSize: 12.5, color: "var(--ink-3)", fontWeight: 600 },
  "& dd": { margin: 0, overflow: "hidden", textOverflow: "ellipsis" },
});

/** The head of a document: a few facts in line. */
export function Facts({ facts }: { facts: [label: string, value: ReactNode][] }) {
  return (
    <FactsGrid>
      {facts
        .filter(([, value]) => value !== undefined && value !== null && value !== "")
        .map(([label, value]) => (
          <div key={label}>
            <dt>{label}</dt>
            <dd>{value}</dd>
          </div>
        ))}
    </FactsGrid>
  );
}

const SheetTable = styled("table")({
  "& .wrong": { color: "var(--stop)" },
  borderCollapse: "collapse",
  width: "100%",
  background: "var(--sheet)",
  "& th": {
    fontSize: 12.5,
    fontWeight: 600,
    color: "var(--ink-3)",
    textAlign: "left",
    padding: "7px 10px",
    borderBottom: "1px solid var(--line-strong)",
    whiteSpace: "nowrap",
  },
  "& td": { padding: "5px 10px", borderBottom: "1px solid var(--line)", height: 36 },
  "& tr:last-of-type td": { borderBottom: 0 },
  "& .right": { textAlign: "right", whiteSpace: "nowrap" },
  // A heading of two words over narrow figures takes two lines where there is no room for one.
  "& th.narrow": { whiteSpace: "normal" },
  "& .dim": { color: "var(--ink-2)" },
  // Units are as wide as each other, so that the figures before them stand in line.
  "& .unit": { display: "inline-block", minWidth: 36, textAlign: "left" },
  "& tfoot td": { fontWeight: 650, borderTop: "1px solid var(--line-strong)" },
});

export const SheetBox = styled("div")({
  background: "var(--sheet)",
  border: "1px solid var(--line)",
  borderRadius: 8,
  overflowX: "auto",
  overflowY: "auto",
  minHeight: 0,
  marginBottom: 12,
  flexShrink: 1,
});

/** The lines of a document. */
export function Lines({ label, children }: { label: string; children: ReactNode }) {
  return (
    <SheetBox tabIndex={0} role="region" aria-label={label}>
      <SheetTable aria-label={label}>{children}</SheetTable>
    </SheetBox>
  );
}

/** A document's lines and more, scrolling together under the title. */
export const Scroll = styled("div")({ overflowY: "auto", minHeight: 0, flex: "0 1 auto", "& > *": { flexShrink: 0 } });

/** A value once it has not changed for a moment, so that not every letter is asked about. */
export function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const wait = setTimeout(() => setSettled(value), 180);
    return () => clearTimeout(wait);
  }, [value]);
  return settled;
}

/** What cannot be shown, and why. */
export function Wrong({ error }: { error: Error }) {
  return (
    <Marked className="stop" role="alert">
      ◆ {error.message}
    </Marked>
  );
}

/** Drops the filters that only lead to a field once they were followed. */
export function useFieldFocus(): void {
  const [params] = useSearchParams();
  const field = params.get("field");
  useEffect(() => {
    if (field) {
      const wait = setTimeout(
        () => document.querySelector<HTMLElement>(`[data-field="${CSS.escape(field)}"] input`)?.focus(),
        60,
      );
      return () => clearTimeout(wait);
    }
  }, [field]);
}
