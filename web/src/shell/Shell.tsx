import { styled } from "@mui/material/styles";
import useMediaQuery from "@mui/material/useMediaQuery";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import { api, got } from "../api/client";
import { date, learnExponents } from "../format";
import { roleWords } from "../words";
import { Finder } from "./Finder";
import { KeysHelp } from "./KeysHelp";
import { KeysProvider } from "./keys";
import { NoticesProvider, useNotices } from "./notices";
import { useSession } from "./session";

const NARROW = "@media (max-width: 1199px)";
const SMALL = "@media (max-width: 819px)";

const Frame = styled("div")({
  display: "grid",
  gridTemplateColumns: "148px minmax(0, 1fr) 324px",
  height: "100%",
  overflow: "hidden",
  "&.folded": { gridTemplateColumns: "148px minmax(0, 1fr) 28px" },
  // Where there is less room the tape lies over the work while it is wanted (WCAG 1.4.10).
  [NARROW]: { gridTemplateColumns: "148px minmax(0, 1fr) 28px" },
  // A small window, or a large one at 200 %: one column, and the page itself scrolls.
  [SMALL]: {
    "&, &.folded": { gridTemplateColumns: "minmax(0, 1fr)" },
    height: "auto",
    minHeight: "100%",
    overflow: "visible",
    alignContent: "start",
  },
});

/** Past the rooms to the work of this one; seen only where a keyboard comes to it (WCAG 2.4.1). */
const Skip = styled("a")({
  position: "fixed",
  left: 8,
  top: -80,
  zIndex: 20,
  padding: "8px 14px",
  background: "var(--sheet)",
  border: "1px solid var(--line-strong)",
  borderRadius: 6,
  "&:focus": { top: 8 },
});

const SpineNav = styled("nav")({
  padding: "16px 0 12px",
  display: "flex",
  flexDirection: "column",
  borderRight: "1px solid var(--line)",
  [SMALL]: {
    flexDirection: "row",
    overflowX: "auto",
    alignItems: "center",
    padding: "4px 8px",
    borderRight: 0,
    borderBottom: "1px solid var(--line)",
    whiteSpace: "nowrap",
    "& a": { gap: 6, padding: "6px 8px", borderLeft: 0, borderBottom: "3px solid transparent" },
    "& a.on": { background: "none", borderBottomColor: "var(--here)" },
    "& .brand": { padding: "0 8px" },
    "& .foot": { marginTop: 0, padding: "0 8px", border: 0, display: "flex", gap: 10 },
  },
  "& .brand": { fontWeight: 700, fontSize: 18, padding: "0 16px 14px", letterSpacing: "-.01em" },
  "& .brand i": {
    display: "inline-block",
    width: 9,
    height: 9,
    borderRadius: "50%",
    background: "var(--here)",
    margin: "0 2px 0 1px",
    verticalAlign: 2,
  },
  "& a": {
    display: "flex",
    justifyContent: "space-between",
    alignItems: "center",
    padding: "6px 14px 6px 16px",
    color: "var(--ink-2)",
    textDecoration: "none",
    borderLeft: "3px solid transparent",
  },
  "& a:hover": { color: "var(--ink)" },
  "& a.on": {
    color: "var(--ink)",
    fontWeight: 650,
    borderLeftColor: "var(--here)",
    background: "linear-gradient(90deg, var(--here-wash), transparent)",
  },
  "& a b": { font: "600 12px/18px 'Spline Sans Mono', monospace", color: "var(--ink-3)" },
  "& a.hot b": { color: "var(--heed)" },
  "& .foot": {
    marginTop: "auto",
    padding: "10px 16px 0",
    color: "var(--ink-3)",
    fontSize: 13,
    borderTop: "1px solid var(--line)",
  },
  "& .foot strong": { color: "var(--ink)", display: "block", fontWeight: 600 },
  "& .foot a.me": { padding: 0, border: 0, background: "none", fontWeight: 400, color: "var(--ink-3)" },
  "& .foot a.me:hover": { color: "var(--ink)", textDecoration: "underline" },
  "& .foot .ok": { color: "var(--done)" },
  "& .foot .bad": { color: "var(--stop)", fontWeight: 650 },
});

const Middle = styled("main")({
  padding: "14px 20px 0 22px",
  display: "flex",
  flexDirection: "column",
  minWidth: 0,
  minHeight: 0,
  position: "relative",
  // A table that needs more room is moved sideways by itself.
  [SMALL]: { padding: "10px 12px 40px", overflowX: "auto", "& .scroll": { maxHeight: "75vh" } },
});

const Roll = styled("aside")({
  background: "var(--roll)",
  borderLeft: "1px solid var(--line)",
  position: "relative",
  minHeight: 0,
  display: "flex",
  flexDirection: "column",
  "&::before": {
    content: '""',
    position: "absolute",
    zIndex: 1,
    left: 0,
    right: 0,
    top: 0,
    height: 8,
    background: "radial-gradient(circle at 6px 0, var(--paper) 4px, transparent 4.6px) 0 0/12px 8px repeat-x",
  },
  "& .paper": { flex: 1, overflowY: "auto", padding: "14px 18px" },
  "& .fold": {
    border: 0,
    background: "none",
    color: "var(--ink-3)",
    font: "inherit",
    fontSize: 13,
    cursor: "pointer",
    padding: "6px 18px 10px",
    textAlign: "left",
  },
  "&.folded .paper": { display: "none" },
  "&.folded .fold": { writingMode: "vertical-rl", padding: "16px 4px", flex: 1 },
  [NARROW]: {
    "&:not(.folded)": {
      position: "fixed",
      right: 0,
      top: 0,
      bottom: 0,
      width: "min(324px, 94vw)",
      zIndex: 5,
      boxShadow: "-6px 0 18px rgb(36 42 30 / 16%)",
    },
  },
  [SMALL]: {
    "&.folded": {
      position: "fixed",
      right: 8,
      bottom: 8,
      zIndex: 5,
      border: "1px solid var(--control)",
      borderRadius: 6,
    },
    "&.folded::before": { display: "none" },
    "&.folded .fold": { writingMode: "horizontal-tb", padding: "5px 10px" },
  },
});

const rooms = [
  { to: "/", name: "Day sheet", count: "day_sheet" },
  { to: "/orders", name: "Orders", also: ["/quotes"] },
  { to: "/shipments", name: "Shipments", count: "shipments" },
  { to: "/billing", name: "Billing", count: "billing", also: ["/invoices", "/runs", "/credit-memos", "/going-out"] },
  { to: "/prepayments", name: "Prepayments", count: "prepayments", hot: true },
  { to: "/returns", name: "Returns", count: "returns", hot: true },
  { to: "/receipts", name: "Receipts", count: "receipts", hot: true, also: ["/bank", "/bank-slips", "/disputes"] },
  { to: "/ledger", name: "Ledger", also: ["/entries"] },
  { to: "/customers", name: "Customers" },
  { to: "/items", name: "Items" },
  { to: "/setup", name: "Setup" },
] as const;

/** Spine, worktop and tape: always the same three parts. */
export function Shell() {
  return (
    <NoticesProvider>
      <KeysProvider>
        <Parts />
      </KeysProvider>
    </NoticesProvider>
  );
}

function Parts() {
  const { person } = useSession();
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")) });
  const ties = useQuery({ queryKey: ["tie-outs"], queryFn: () => got(api.GET("/api/tie-outs")), staleTime: 30_000 });
  // Narrow windows have their own habit: there the tape covers the work, so it is hidden until it is wanted.
  const narrow = useMediaQuery(NARROW.slice("@media ".length));
  const habit = narrow ? "till.folded.narrow" : "till.folded";
  const [habits, setHabits] = useState<Record<string, boolean>>({});
  const folded = habits[habit] ?? (localStorage.getItem(habit) ?? (narrow ? "yes" : "no")) === "yes";
  const { pathname } = useLocation();
  const { say } = useNotices();
  if (spine.data) {
    learnExponents(spine.data.exponents);
  }
  // A notice about one document would be about nothing on the next page but one.
  const [noticeFrom, setNoticeFrom] = useState(pathname);
  useEffect(() => {
    if (noticeFrom !== pathname) {
      setNoticeFrom(pathname);
    }
  }, [pathname, noticeFrom]);
  useEffect(() => {
    if (spine.error) {
      say({ kind: "stop", text: spine.error.message });
    }
  }, [spine.error, say]);
  const fold = () => {
    localStorage.setItem(habit, folded ? "no" : "yes");
    setHabits((now) => ({ ...now, [habit]: !folded }));
  };
  return (
    <Frame className={folded ? "folded" : ""}>
      <Skip
        href="#worktop"
        onClick={(event) => {
          event.preventDefault();
          document.querySelector<HTMLElement>("#worktop h1")?.focus();
        }}
      >
        Skip to content
      </Skip>
      <SpineNav aria-label="Rooms">
        <div className="brand">
          Glad
          <i />
          Till
        </div>
        {rooms.map((room) => {
          const count = "count" in room ? (spine.data?.[room.count] ?? 0) : 0;
          const within = pathname === room.to || (room.to !== "/" && pathname.startsWith(`${room.to}/`));
          const also =
            "also" in room && room.also.some((place) => pathname === place || pathname.startsWith(`${place}/`));
          const hot = "hot" in room || (room.to === "/billing" && spine.data?.billing_stopped);
          return (
            <NavLink key={room.to} to={room.to} end className={`${within || also ? "on" : ""} ${hot ? "hot" : ""}`}>
              {room.name}
              {count > 0 && <b>{count}</b>}
            </NavLink>
          );
        })}
        <div className="foot">
          <strong>{spine.data ? date(spine.data.business_date) : ""}</strong>
          <NavLink to="/me" className="me" title={`Signed in at ${spine.data?.company ?? "Glad Till"}`}>
            {person.name}, {roleWords[person.role]}
          </NavLink>
          {ties.data && (
            <div className={ties.data.holds ? "ok" : "bad"}>
              {ties.data.holds ? "● reconciled" : "◆ not reconciled"}
            </div>
          )}
        </div>
      </SpineNav>
      <Middle id="worktop">
        <Finder />
        <Outlet />
      </Middle>
      <Roll className={folded ? "folded" : ""} aria-label="Tape">
        <div className="paper" id="roll" tabIndex={0} role="region" aria-label="Tape, scrolls" />
        <button type="button" className="fold" onClick={fold} aria-expanded={!folded}>
          {folded ? "Show tape" : "Hide tape"}
        </button>
      </Roll>
      <KeysHelp />
    </Frame>
  );
}
