import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, got } from "../api/client";
import { money, number } from "../format";

/** How long a row is in focus before its lines are asked for: arrows held down ask for nothing. */
const REST = 120;

/** A value once it has stayed for a while. */
function useRested<T>(value: T): T | undefined {
  const [rested, setRested] = useState<T>();
  useEffect(() => {
    const wait = setTimeout(() => setRested(value), REST);
    return () => clearTimeout(wait);
  }, [value]);
  return rested === value ? rested : undefined;
}

interface Line {
  code: string;
  description: string;
  quantity: string;
  amount: number;
}

function Lines({ lines, currency }: { lines: Line[]; currency: string }) {
  // A list shows what a row is about; the whole of a long document is one key away.
  const shown = lines.slice(0, 12);
  return (
    <>
      {shown.map((line, at) => (
        <div key={at}>
          <div className="l">
            <span>
              {number(line.quantity)} × {line.code}
            </span>
            <span>{money(line.amount, currency)}</span>
          </div>
          <div className="l quiet deep">
            <span>{line.description}</span>
          </div>
        </div>
      ))}
      {lines.length > shown.length && <div className="words quiet">and {lines.length - shown.length} more lines</div>}
    </>
  );
}

/** The lines of the order in focus. */
export function OrderLines({ id }: { id: number }) {
  const asked = useRested(id);
  const order = useQuery({
    queryKey: ["order", String(id)],
    queryFn: () => got(api.GET("/api/orders/{id}", { params: { path: { id } } })),
    enabled: asked !== undefined,
  });
  const { data } = order;
  return (
    data && (
      <Lines
        currency={data.currency}
        lines={data.lines.map((line) => ({ ...line, quantity: line.ordered, amount: line.value }))}
      />
    )
  );
}

/** The lines of the invoice in focus. */
export function InvoiceLines({ id }: { id: number }) {
  const asked = useRested(id);
  const invoice = useQuery({
    queryKey: ["invoice", String(id)],
    queryFn: () => got(api.GET("/api/invoices/{id}", { params: { path: { id } } })),
    enabled: asked !== undefined,
  });
  const document = invoice.data?.document;
  return document && <Lines currency={document.currency} lines={document.lines} />;
}
