import { useNavigate } from "react-router";
import type { Hanging, OrderView } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { Lines } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";

/** The step that frees what hangs, as the button says it, and where it is. */
export function stepOf(
  step: Hanging["step"],
  order: { id: number; number: string; customer: number },
): { words: string; place?: string } {
  switch (step) {
    case "ship_bill_and_receive":
      return { words: "Ship, bill and receive the rest" };
    case "ship_and_bill":
      return { words: "Ship and bill, then capture" };
    case "bill":
      return { words: "Bill what has shipped", place: `/billing?q=${order.number}` };
    case "receive":
      return { words: "Receive the rest", place: `/receipts/new?customer=${order.customer}` };
    case "clear_deposits":
      return { words: "Open the deposits", place: `/prepayments?q=${order.number}` };
    case "credit":
      return { words: "Open the prepayment invoices", place: `/prepayments/invoices?q=${order.number}` };
    case "capture":
      return { words: "Open the card", place: `/prepayments/cards?q=${order.number}` };
    case "confirm":
      return { words: "Open the order", place: `/orders/${order.id}` };
  }
}

/**
 * Nobody closes an order by hand: goods, tax or the customer's money would be left hanging. What hangs, with amounts, and
 * the step that goes on from here; the order closes by itself with the last of them.
 */
export function CloseAsk({
  order,
  close,
  finish,
}: {
  order: OrderView;
  close: () => void;
  /** Ships and bills what is left, with the money or on its terms. */
  finish: (paidNow: boolean) => void;
}) {
  const navigate = useNavigate();
  const first = order.hanging[0];
  if (!first) {
    return null;
  }
  const step = stepOf(first.step, order);
  return (
    <FormAsk
      title={`${order.number} closes by itself`}
      yes={step.words}
      close={close}
      keepsOpen={!step.place}
      fields={[]}
      run={async () => (step.place ? navigate(step.place) : finish(first.step === "ship_bill_and_receive"))}
    >
      It is not closed by hand: what hangs on it would be left behind.
      <Lines label="What hangs on the order">
        <tbody>
          {order.hanging.map((one) => (
            <tr key={one.what}>
              <td>{one.words}</td>
              <td className="right nowrap">{moneyWithCurrency(one.amount, order.currency)}</td>
            </tr>
          ))}
        </tbody>
      </Lines>
    </FormAsk>
  );
}
