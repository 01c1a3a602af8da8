import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import { moneyWithCurrency } from "../../format";

/** Deposits on account of a customer, offered wherever an invoice of theirs is to be paid: each leads to its applying. */
export function OnAccount({
  customer,
  currency,
  invoice,
}: {
  customer: number | undefined;
  currency: string;
  /** The invoice it is offered for; none where any of the customer's will do. */
  invoice?: number | undefined;
}) {
  const held = useQuery({
    queryKey: ["deposits", "on account", customer],
    queryFn: () =>
      got(api.GET("/api/deposits", { params: { query: { customer: customer ?? 0, state: "held", limit: 200 } } })),
    enabled: customer !== undefined,
  });
  const offers = (held.data?.deposits ?? []).filter((one) => !one.order && !one.quote && one.currency === currency);
  if (offers.length === 0) {
    return null;
  }
  return (
    <p style={{ margin: "0 0 10px" }} data-testid="on-account">
      Held on account:{" "}
      {offers.map((one, at) => (
        <Fragment key={one.id}>
          {at > 0 && ", "}
          <Link to={`/prepayments/${one.id}?apply=${invoice ?? ""}`}>
            apply {moneyWithCurrency(one.held, currency)} of {one.number}
          </Link>
        </Fragment>
      ))}
      .
    </p>
  );
}
