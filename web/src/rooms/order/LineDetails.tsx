import { styled } from "@mui/material/styles";
import type { GoodsSettings, LineForm, PricedLine } from "../../api/types";
import { date, number, percent, price } from "../../format";
import { Field, FormGrid } from "../../parts/form";
import { MarkFields } from "./MarkFields";

const Strip = styled("section")({
  borderTop: "1px solid var(--line)",
  paddingTop: 8,
  "& .facts": { display: "flex", gap: 18, flexWrap: "wrap", color: "var(--ink-2)", fontSize: 14, marginBottom: 4 },
  "& .facts b": { color: "var(--ink)", fontWeight: 600 },
  "& .steps": { color: "var(--ink-2)", fontSize: 14 },
});

interface Props {
  at: number;
  line: LineForm;
  priced: PricedLine | undefined;
  goods: GoodsSettings | undefined;
  promotions: readonly (readonly [string, string])[];
  change: (part: Partial<LineForm>) => void;
}

/** What else there is to a line: where its price comes from, what there is of it, and the rest. */
export function LineDetails({ at, line, priced, goods, promotions, change }: Props) {
  const stock = priced?.stock;
  return (
    <Strip aria-label={`More of line ${at + 1}`}>
      {priced?.price && (
        <div className="steps">
          {priced.price.steps.map((step, place) => (
            <span key={place}>
              {place > 0 && " → "}
              {step.source}
              {step.off != null && ` −${percent(step.off)}`} <b>{price(step.unit_price)}</b>
            </span>
          ))}
        </div>
      )}
      {stock && (
        <div className="facts">
          {stock.counted ? (
            <>
              <span>
                on hand in {stock.warehouse} <b>{number(stock.on_hand)}</b>
              </span>
              <span>
                reserved for others <b>{number(stock.committed)}</b>
              </span>
              <span>
                can go now{" "}
                <b>
                  {number(priced.can_go)} {priced.unit}
                </b>
              </span>
              {stock.expected_on && (
                <span>
                  expected <b>{number(stock.expected)}</b> from {date(stock.expected_on)}
                </span>
              )}
            </>
          ) : (
            <span>stock of {stock.warehouse} is counted elsewhere</span>
          )}
          {priced.short !== "0" && priced.can_go !== "0" && (
            <button type="button" className="quietly" onClick={() => change({ quantity: priced.can_go })}>
              Take only {number(priced.can_go)}
            </button>
          )}
          {priced.short !== "0" &&
            stock.elsewhere.map((other) => (
              <button
                type="button"
                className="quietly"
                key={other.warehouse}
                onClick={() => change({ warehouse: other.warehouse })}
              >
                From {other.warehouse}, {number(other.available)} free
              </button>
            ))}
        </div>
      )}
      <FormGrid>
        <Field
          label="Why this price"
          name={`lines.${at}.price_reason`}
          value={line.price_reason ?? ""}
          onChange={(price_reason) => change({ price_reason })}
          disabled={!line.unit_price}
        />
        <Field
          label="Why this discount"
          name={`lines.${at}.discount_reason`}
          value={line.discount_reason ?? ""}
          onChange={(discount_reason) => change({ discount_reason })}
          disabled={!line.discount}
        />
        <Field
          label="Promotion"
          name={`lines.${at}.promotion`}
          value={line.promotion ?? ""}
          onChange={(promotion) => change({ promotion })}
          choices={[["", "the best that runs"], ...promotions]}
        />
        <Field
          label="Ship from"
          name={`lines.${at}.warehouse`}
          value={line.warehouse ?? ""}
          onChange={(warehouse) => change({ warehouse })}
          choices={[
            ["", "as the order"],
            ...(goods?.warehouses ?? []).map((one) => [one.code, `${one.code} · ${one.name}`] as const),
          ]}
        />
        <Field
          label="Words on the papers"
          name={`lines.${at}.description`}
          value={line.description ?? ""}
          onChange={(description) => change({ description })}
          span={6}
        />
        <Field
          label={priced ? `Tax code, ${priced.tax.code} ${priced.tax_source}` : "Tax code"}
          name={`lines.${at}.tax_code`}
          value={line.tax_code ?? ""}
          onChange={(tax_code) => change({ tax_code })}
          choices={[
            ["", "as it comes"],
            ...(goods?.tax_codes ?? []).map((one) => [one.code, `${one.code} · ${one.name}`] as const),
          ]}
        />
        <Field
          label="Why this tax code"
          name={`lines.${at}.tax_reason`}
          value={line.tax_reason ?? ""}
          onChange={(tax_reason) => change({ tax_reason })}
          disabled={!line.tax_code}
        />
        <MarkFields
          goods={goods}
          place="line"
          marks={line.marks ?? {}}
          prefix={`lines.${at}.`}
          change={(marks) => change({ marks })}
        />
      </FormGrid>
    </Strip>
  );
}
