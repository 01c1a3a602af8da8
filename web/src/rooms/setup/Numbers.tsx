import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { NumberRange } from "../../api/types";
import { Chips, Marked, RoomLinks, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

const names: Record<string, string> = {
  call_off: "Blanket orders",
  card_authorization: "Card authorizations",
  card_payout: "Card payouts",
  card_return: "Card refunds and chargebacks",
  container_return: "Packaging brought back",
  credit_memo: "Credit memos",
  deposit: "Deposits",
  deposit_end: "Deposits kept or given back",
  entry: "Entries",
  estimate: "Expected returns",
  invoice: "Invoices",
  opening: "Opening items",
  order: "Orders",
  payment_request: "Payment requests",
  prepayment_invoice: "Prepayment invoices",
  quote: "Quotes",
  receipt: "Receipts",
  refund: "Refunds",
  return: "Returns",
  return_accrual: "Back, not credited",
  bank_statement: "Bank statements",
  bank_slip: "Bank deposit slips",
  shipment: "Shipments",
};

/** The next numbers, moved forward only. */
export function NumbersRoom() {
  const setup = useQuery({ queryKey: ["setup"], queryFn: () => got(api.GET("/api/setup")) });
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [current, setCurrent] = useState<NumberRange>();
  const [asking, setAsking] = useState<NumberRange>();
  const columns: Column<NumberRange>[] = [
    { key: "kind", head: "Document", width: "minmax(0, 1fr)", cell: (row) => <b>{names[row.kind] ?? row.kind}</b> },
    { key: "next", head: "Next", width: "150px", right: true, cell: (row) => `${row.prefix}${row.next}` },
    {
      key: "void",
      head: "Passed over",
      width: "260px",
      cell: (row) =>
        !row.movable ? (
          <Marked className="dim">never: entries have no gaps</Marked>
        ) : (
          row.void[0] && (
            <Marked className="dim">{row.void.map((one) => `${one.first} to ${one.last}`).join(", ")}</Marked>
          )
        ),
    },
  ];
  const move = (row: NumberRange | undefined) => row?.movable && setAsking(row);
  return (
    <Worktop
      title="Numbers"
      actions={[
        {
          key: "Enter",
          label: current?.movable ? `Move ${current.prefix}${current.next} forward` : "Move forward",
          run: () => move(current),
          primary: true,
          disabled: !current?.movable,
          shownOnly: true,
          needs: "move_number",
        },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {names[current.kind] ?? current.kind}
              <br />
              <span>given at posting, in order, without gaps</span>
            </h2>
            <div className="l due">
              <span>Next</span>
              <span>
                {current.prefix}
                {current.next}
              </span>
            </div>
            {current.void.length > 0 && <h3>Passed over, void for good</h3>}
            {current.void.map((one) => (
              <div className="words" key={one.first}>
                {one.first} to {one.last}
                <div className="quiet" style={{ fontSize: 13 }}>
                  {one.person}: {one.reason}
                </div>
              </div>
            ))}
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {setup.error && <Wrong error={setup.error} />}
      {setup.data && (
        <Rows
          label="Numbers"
          rows={setup.data.numbers}
          idOf={(row) => row.kind}
          columns={columns}
          onCurrent={setCurrent}
          {...(may("move_number") && { onOpen: move })}
          empty=""
        />
      )}
      {asking && (
        <FormAsk
          title={`Move the next ${asking.kind} number forward`}
          yes="Move it"
          close={() => setAsking(undefined)}
          fields={[
            { name: "next", label: "Next number", value: String(asking.next), right: true },
            { name: "prefix", label: "Before the number", value: asking.prefix },
            { name: "reason", label: "Why", kind: "words" },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/setup/numbers/{kind}", {
                params: { path: { kind: asking.kind }, header: keyed(key) },
                body: {
                  next: Number(values.next || Number.NaN) || 0,
                  prefix: values.prefix ?? "",
                  reason: values.reason ?? "",
                },
              }),
            );
            say({ kind: "done", text: `The next ${asking.kind} is ${values.prefix}${values.next}.` });
            await changed();
          }}
        >
          Never back. The numbers passed over stay void, with your name and the reason.
        </FormAsk>
      )}
    </Worktop>
  );
}
