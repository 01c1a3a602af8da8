import { styled } from "@mui/material/styles";
import type { components } from "../api/schema";

export type Page = components["schemas"]["Page"];
export type PageQuote = components["schemas"]["PageQuote"];
export type PageOrder = components["schemas"]["PageOrder"];
export type PageReturn = components["schemas"]["PageReturn"];
export type PageInvoice = components["schemas"]["PageInvoice"];
export type PagePaid = components["schemas"]["PagePaid"];

/** One column, as wide as a sheet at most, with room for a thumb. */
export const Frame = styled("main")({
  maxWidth: 760,
  margin: "0 auto",
  padding: "22px 16px 48px",
  fontSize: 16,
  "& header": { marginBottom: 22 },
  "& header h1": { margin: 0, fontSize: 22 },
  "& header p": { margin: "4px 0 0", color: "var(--ink-2)" },
  "& h2": { fontSize: 17, margin: "26px 0 8px" },
  "& footer": { marginTop: 32, color: "var(--ink-2)", fontSize: 14 },
  "& .dim": { color: "var(--ink-2)" },
  "& .stop": { color: "var(--stop)" },
  "& .heed": { color: "var(--heed)" },
  "& .done": { color: "var(--done)" },
});

/** A sheet with one thing on it. */
export const Sheet = styled("section")({
  background: "var(--sheet)",
  border: "1px solid var(--line)",
  borderRadius: 10,
  padding: "14px 16px",
  margin: "0 0 12px",
  "& h3": { margin: 0, fontSize: 16 },
  "& p": { margin: "6px 0" },
  "& .acts": { display: "flex", flexWrap: "wrap", gap: 10, marginTop: 12, alignItems: "center" },
  "& .acts .MuiButton-root": { minHeight: 44 },
  "& form": { display: "grid", gap: 14, marginTop: 14 },
  "& .due": { fontWeight: 700, fontSize: 19 },
});

/** A name and its figure, in a row; what is longer than the row breaks. */
export const Row = styled("div")({
  display: "grid",
  gridTemplateColumns: "minmax(0, 1fr) auto",
  gap: "0 14px",
  padding: "7px 0",
  borderBottom: "1px solid var(--line)",
  "&:last-of-type": { borderBottom: 0 },
  "& .figure": { textAlign: "right", whiteSpace: "nowrap" },
  "& small": { display: "block", color: "var(--ink-2)", fontSize: 14 },
  "&.sum": { fontWeight: 650, borderBottom: 0 },
});
