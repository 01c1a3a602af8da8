import TextField from "@mui/material/TextField";
import { money } from "../../format";
import { Lines, useBase } from "../../parts/bits";
import { ItemChoice } from "../invoice/OtherWay";
import { Choice } from "./Choice";

/** Goods that no document shows, as typed. */
export interface Unknown {
  item: string;
  price: string;
  quantity: string;
  reason: string;
  disposition: string;
  cost: string;
  costReason: string;
}

export const nothingKnown: Unknown = {
  item: "",
  price: "",
  quantity: "",
  reason: "",
  disposition: "",
  cost: "",
  costReason: "",
};

type Named = { code: string; name: string }[];

/** Of the fields, where a column for what is credited stands beside them. */
const widths = { quantity: 56, price: 80, cost: 76 };

/** What comes back though no invoice and no shipment shows it: which item, at which price, and what it cost. */
export function WithoutDocument({
  lines,
  first,
  currency,
  reasons,
  dispositions,
  errors,
  change,
  field = "lines",
  amounts,
  usual,
}: {
  lines: Unknown[];
  /** The place of the first of them among all that comes back. */
  first: number;
  currency: string;
  reasons: Named;
  dispositions: Named;
  errors: Record<string, string>;
  change: (at: number, what: Partial<Unknown>) => void;
  /** What the server calls their list. */
  field?: string;
  /** What each is credited with, where that is posted at once. */
  amounts?: number[];
  /** The reason where none is chosen; left out where one must be. */
  usual?: string;
}) {
  const base = useBase();
  return (
    <Lines label="Without a document">
      <thead>
        <tr>
          <th style={{ width: amounts ? "24%" : "26%" }}>Without a document</th>
          <th className="right">Comes back</th>
          <th className="right">Price for one {amounts ? "" : currency}</th>
          <th>{amounts ? "Cost of one" : `Cost of one ${base}, and why`}</th>
          <th>{amounts ? "Reason, and where it goes" : "Reason, and what is planned"}</th>
          {amounts && <th className="right">Credit {currency}</th>}
        </tr>
      </thead>
      <tbody>
        {lines.map((line, at) => {
          const error = (name: string) => errors[`${field}.${first + at}.${name}`];
          const wrong =
            error("item") ??
            error("quantity") ??
            error("price") ??
            error("cost") ??
            error("cost_reason") ??
            error("reason") ??
            error("disposition");
          const cell = (what: "quantity" | "price" | "cost", label: string, hint?: string) => (
            <TextField
              value={line[what]}
              onChange={(event) => change(at, { [what]: event.target.value })}
              error={!!error(what)}
              placeholder={hint}
              sx={{ width: amounts ? widths[what] : 96 }}
              slotProps={{
                htmlInput: {
                  "aria-label": `${label} of line ${at + 1} without a document`,
                  inputMode: "decimal",
                  style: { textAlign: "right" },
                },
              }}
            />
          );
          return (
            <tr key={at}>
              <td>
                <ItemChoice
                  value={line.item}
                  goods
                  onlyGoods
                  choose={(item) => change(at, { item })}
                  wrong={!!error("item")}
                  label={`Item of line ${at + 1} without a document`}
                />
                {wrong && (
                  <div className="wrong" role="alert">
                    {wrong}
                  </div>
                )}
              </td>
              <td className="right">
                {cell("quantity", "Quantity", amounts && line.item.trim() !== "" ? "1" : undefined)}
              </td>
              <td className="right">{cell("price", "Price")}</td>
              <td>
                {cell("cost", "Cost", "newest")}
                {line.cost.trim() !== "" && (
                  <TextField
                    value={line.costReason}
                    onChange={(event) => change(at, { costReason: event.target.value })}
                    error={!!error("cost_reason")}
                    placeholder="why it cost that"
                    fullWidth
                    sx={{ display: "block", marginTop: "4px" }}
                    slotProps={{ htmlInput: { "aria-label": `Why line ${at + 1} without a document cost that` } }}
                  />
                )}
              </td>
              <td style={{ width: 190, visibility: amounts && line.item.trim() === "" ? "hidden" : undefined }}>
                <Choice
                  label={`Why line ${at + 1} without a document comes back`}
                  value={line.reason || (usual ?? "")}
                  choices={reasons}
                  none={usual === undefined ? "Why?" : undefined}
                  wrong={!!error("reason")}
                  choose={(reason) => change(at, { reason })}
                />
                <Choice
                  label={`What is to become of line ${at + 1} without a document`}
                  value={line.disposition}
                  choices={dispositions}
                  none="Inspect first"
                  choose={(disposition) => change(at, { disposition })}
                />
              </td>
              {amounts && (
                <td className="right">{line.item.trim() !== "" && !wrong ? money(amounts[at] ?? 0, currency) : ""}</td>
              )}
            </tr>
          );
        })}
      </tbody>
    </Lines>
  );
}
