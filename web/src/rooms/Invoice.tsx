import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, got } from "../api/client";
import { Wrong } from "../parts/bits";
import { Worktop } from "../shell/Worktop";
import { Draft } from "./invoice/Draft";
import { Posted } from "./invoice/Posted";

export function InvoiceRoom() {
  const { id = "" } = useParams();
  const invoice = useQuery({
    queryKey: ["invoice", id],
    queryFn: () => got(api.GET("/api/invoices/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!invoice.data) {
    return (
      <Worktop title="Invoice" actions={[]} back="/billing/invoices">
        {invoice.error && <Wrong error={invoice.error} />}
      </Worktop>
    );
  }
  return invoice.data.number ? <Posted invoice={invoice.data} /> : <Draft key={id} invoice={invoice.data} />;
}
