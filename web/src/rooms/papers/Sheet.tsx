import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { createPortal } from "react-dom";
import { api, got } from "../../api/client";
import type { Schemas } from "./types";

const Page = styled("article")({
  color: "#242a1e",
  fontSize: "10.5pt",
  lineHeight: 1.35,
  "& header": { display: "flex", justifyContent: "space-between", alignItems: "flex-start", marginBottom: "12mm" },
  "& .company": { fontWeight: 700, fontSize: "13pt" },
  "& h1": { fontSize: "20pt", margin: "0 0 3mm", letterSpacing: "-.01em" },
  "& .to": { whiteSpace: "pre-line" },
  "& .addresses": { display: "flex", gap: "14mm" },
  "& .addresses h2": { font: "inherit", fontSize: "9pt", color: "#555a4a", margin: "0 0 1mm" },
  "& dl": { display: "grid", gridTemplateColumns: "auto auto", gap: "1mm 6mm", margin: 0 },
  "& dt": { color: "#555a4a" },
  "& dd": { margin: 0, textAlign: "right" },
  "& table": { width: "100%", borderCollapse: "collapse", fontVariantNumeric: "tabular-nums" },
  "& thead": { display: "table-header-group" },
  "& th": {
    textAlign: "left",
    fontWeight: 600,
    color: "#555a4a",
    borderBottom: "1pt solid #242a1e",
    padding: "1.5mm 2mm",
  },
  "& td": { padding: "1.6mm 2mm", borderBottom: ".5pt solid #c8ba9c", verticalAlign: "top" },
  "& tr": { breakInside: "avoid" },
  "& .right": { textAlign: "right", whiteSpace: "nowrap" },
  "& .dim": { color: "#555a4a", fontSize: "9pt" },
  "& .box": { display: "inline-block", width: "5mm", height: "5mm", border: "1pt solid #242a1e", borderRadius: "1mm" },
  "& .blank": { borderBottom: "1pt solid #242a1e", display: "inline-block", width: "18mm" },
  "& tfoot td": { borderBottom: 0, padding: "1mm 2mm" },
  "& tfoot .due td": { fontSize: "13pt", fontWeight: 700, borderTop: "1.5pt solid #242a1e" },
  "& .note": { marginTop: "8mm", whiteSpace: "pre-line" },
  "& .signed": { marginTop: "16mm", display: "flex", gap: "20mm", color: "#555a4a" },
  "& .signed span": { borderTop: ".75pt solid #555a4a", paddingTop: "1mm", width: "55mm" },
});

type Address = Schemas["TypedAddress"];

interface Props {
  title: string;
  facts: [label: string, value: ReactNode][];
  /** Names over one or two addresses. */
  addresses: [head: string, address: Address][];
  children: ReactNode;
  /** The papers of one page: only the one that is asked for is printed. */
  name?: string;
}

/** A sheet of the family of papers, on A4 or Letter: in the page only for the printer. */
export function PaperSheet({ title, facts, addresses, children, name }: Props) {
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")) });
  return createPortal(
    <Page className="printed" aria-hidden="true" data-paper={name}>
      <header>
        <div>
          <div className="company">{spine.data?.company}</div>
          <div className="addresses">
            {addresses.map(([head, address]) => (
              <div key={head}>
                {addresses.length > 1 && <h2>{head}</h2>}
                <p className="to" style={{ marginTop: addresses.length > 1 ? 0 : undefined }}>
                  {`${address.name}\n${address.address.split(", ").join("\n")}`}
                </p>
              </div>
            ))}
          </div>
        </div>
        <div>
          <h1>{title}</h1>
          <dl>
            {facts
              .filter(([, value]) => value !== undefined && value !== null && value !== "")
              .map(([label, value]) => [<dt key={label}>{label}</dt>, <dd key={`${label} value`}>{value}</dd>])}
          </dl>
        </div>
      </header>
      {children}
    </Page>,
    document.body,
  );
}

/** Prints one of several papers of a page. */
export function printPaper(name: string): void {
  document.body.dataset.paper = name;
  window.print();
  delete document.body.dataset.paper;
}
