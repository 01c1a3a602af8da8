import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { CustomerView } from "../../api/types";
import { money, number, typedDecimal } from "../../format";
import { useBase, useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";

/** What the customer has of our returnable packaging. */
export function useContainers(id: number) {
  const file = useQuery({
    queryKey: ["customer-file", String(id)],
    queryFn: () => got(api.GET("/api/customers/{id}/file", { params: { path: { id } } })),
  });
  return (file.data?.containers ?? []).filter((one) => one.there !== "0");
}

/** Empty containers that were brought back. */
export function ContainersAsk({ customer, close }: { customer: CustomerView; close: () => void }) {
  const base = useBase();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const containers = useContainers(customer.id);
  const [item, setItem] = useState<string>();
  const [quantity, setQuantity] = useState<string>();
  const typed = {
    item: item ?? containers[0]?.code ?? "",
    quantity: typedDecimal(quantity ?? containers[0]?.there ?? ""),
  };
  const preview = useQuery({
    queryKey: ["containers-back", customer.id, typed],
    queryFn: () =>
      got(api.POST("/api/customers/{id}/containers/preview", { params: { path: { id: customer.id } }, body: typed })),
    enabled: !!typed.item && !!typed.quantity,
    gcTime: 0,
    retry: false,
  });
  return (
    <FormAsk
      title={`Containers back from ${customer.name}`}
      yes="Take them back"
      close={close}
      fields={[
        {
          name: "item",
          label: "What",
          changed: setItem,
          choices: containers.map((one): [string, string] => [
            one.code,
            `${one.name}: ${number(one.there)} there, ${money(one.owed_back, base)} owed back`,
          ]),
        },
        { name: "quantity", label: "How many", right: true, value: containers[0]?.there ?? "", changed: setQuantity },
      ]}
      run={async (values, key) => {
        const body = { item: values.item ?? "", quantity: typedDecimal(values.quantity ?? "") };
        const posted = await got(
          api.POST("/api/customers/{id}/containers", {
            params: { path: { id: customer.id }, header: keyed(key) },
            body: { ...body, seen: preview.data?.fingerprint ?? "" },
          }),
        );
        say({ kind: "done", text: `${posted.number}: ${values.quantity} × ${values.item} returned.` });
        await changed();
      }}
    >
      What was charged for them is set against open invoices, the oldest first; where none is open it stays unapplied.
      {preview.data && !preview.error && (
        <WhatItDoes does={preview.data} entries={preview.data.entry ? [preview.data.entry] : []} />
      )}
    </FormAsk>
  );
}
