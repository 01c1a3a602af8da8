import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { MadeLinkView } from "../../api/types";
import { moment, plural } from "../../format";
import { Lines, Marked, useDocumentChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";

export function usePageLinks(customer: number) {
  return useQuery({
    queryKey: ["page-links", customer],
    queryFn: () => got(api.GET("/api/customers/{id}/page-links", { params: { path: { id: customer } } })),
  });
}

interface MakeProps {
  customer: number;
  /** The quote it goes with. */
  quote?: { id: number; number: string };
  close: () => void;
}

/** Makes a link to the customer's own page, mails it, and shows it once to be handed over another way. */
export function MakeLinkAsk({ customer, quote, close }: MakeProps) {
  const changed = useDocumentChanged();
  const { say } = useNotices();
  const [made, setMade] = useState<MadeLinkView>();
  // The address its papers go to is proposed.
  const file = useQuery({
    queryKey: ["customer-file", String(customer)],
    queryFn: () => got(api.GET("/api/customers/{id}/file", { params: { path: { id: customer } } })),
  });
  if (file.isPending) {
    return null;
  }
  if (made) {
    return <LinkShown made={made} close={close} />;
  }
  return (
    <FormAsk
      title={quote ? `Send ${quote.number}` : "Link to the customer page"}
      yes="Make the link"
      close={close}
      keepsOpen
      fields={[
        {
          name: "recipient",
          label: "Email",
          value: file.data?.form.email ?? "",
          hint: "leave empty to hand the link over yourself",
        },
        { name: "days", label: "Works for, in days", value: "14", right: true, hint: "1 to 90" },
      ]}
      run={async (values, key) => {
        const link = await got(
          api.POST("/api/customers/{id}/page-links", {
            params: { path: { id: customer }, header: keyed(key) },
            body: {
              days: /^\d+$/.test((values.days ?? "").trim()) ? Number(values.days) : 0,
              recipient: values.recipient || null,
              quote: quote?.id ?? null,
            },
          }),
        );
        await changed(["page-links", customer]);
        if (values.recipient && !link.problem) {
          say({ kind: "done", text: `The link was emailed to ${values.recipient}.` });
        }
        setMade(link);
      }}
    >
      {quote
        ? "The customer accepts it by name on their own page. Whoever has the link sees the page, until it expires."
        : "It shows this customer's quotes, orders, invoices and papers, and nothing else. Whoever has the link sees the page, until it expires."}
    </FormAsk>
  );
}

/** A link, to be copied. */
export function LinkShown({ made, close }: { made: MadeLinkView; close: () => void }) {
  const { say } = useNotices();
  return (
    <Ask
      title="Link to the customer page"
      yes="Copy the link"
      no="Close"
      busyWords="One moment…"
      close={close}
      run={async () => {
        await navigator.clipboard.writeText(made.address);
        say({ kind: "done", text: "The link is copied." });
      }}
    >
      {made.problem && <p className="wrong">▲ {made.problem}</p>}
      <p style={{ overflowWrap: "anywhere", userSelect: "all" }} data-testid="page-link">
        {made.address}
      </p>
      It works until {moment(made.expires_at)}.
    </Ask>
  );
}

/** The links of a customer that were made of late, with what became of them. */
export function PageLinkLines({ customer }: { customer: number }) {
  const links = usePageLinks(customer);
  const may = useMay();
  const changed = useDocumentChanged();
  const { say } = useNotices();
  const [ending, setEnding] = useState<number>();
  const [shown, setShown] = useState<MadeLinkView>();
  if (!links.data || links.data.length === 0) {
    return null;
  }
  const show = async (link: number) => {
    const made = await got(
      api.POST("/api/customers/{id}/page-links/{link}/show", {
        params: { path: { id: customer, link }, header: keyed(crypto.randomUUID()) },
      }),
    );
    await changed(["page-links", customer]);
    setShown(made);
  };
  return (
    <>
      <Lines label="Links to the customer page">
        <thead>
          <tr>
            <th>Customer page</th>
            <th>Made</th>
            <th>Works until</th>
            <th>Opened</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {links.data.slice(0, 5).map((link) => (
            <tr key={link.id}>
              <td>
                {link.recipient ?? "handed over"}
                {link.quote_number && <Marked className="dim"> · {link.quote_number}</Marked>}
              </td>
              <td className="dim">
                {moment(link.made_at)} by {link.made_by}
              </td>
              <td>
                {link.state === "works" && moment(link.expires_at)}
                {link.state === "expired" && <Marked className="dim">◆ expired</Marked>}
                {link.state === "ended" && <Marked className="dim">○ ended</Marked>}
              </td>
              <td>{link.opened === 0 ? "not yet" : plural(link.opened, "time", "times")}</td>
              <td className="right">
                {link.state === "works" && may("keep_page_links") && (
                  <>
                    <button type="button" className="quietly" onClick={() => void show(link.id)}>
                      Show
                    </button>
                    <button type="button" className="quietly" onClick={() => setEnding(link.id)}>
                      End
                    </button>
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Lines>
      {shown && <LinkShown made={shown} close={() => setShown(undefined)} />}
      {ending !== undefined && (
        <Ask
          title="End this link?"
          yes="End the link"
          busyWords="One moment…"
          close={() => setEnding(undefined)}
          run={async (key) => {
            await got(
              api.DELETE("/api/customers/{id}/page-links/{link}", {
                params: { path: { id: customer, link: ending }, header: keyed(key) },
              }),
            );
            say({ kind: "done", text: "The link leads nowhere any more." });
            await changed(["page-links", customer]);
          }}
        >
          Whoever opens it is told to ask for a new one.
        </Ask>
      )}
    </>
  );
}
