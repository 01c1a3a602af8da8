// @vitest-environment jsdom

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { api } from "../src/api/client";
import type { InvoiceView, Terms, ToBill } from "../src/api/types";
import { percentText, share, TermsFields } from "../src/rooms/customers/TermsFields";
import { TermsAsk } from "../src/rooms/invoice/adding";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn() },
}));

const get = vi.mocked(api.GET) as unknown as ReturnType<typeof vi.fn>;
const post = vi.mocked(api.POST) as unknown as ReturnType<typeof vi.fn>;

afterEach(cleanup);
beforeEach(() => {
  get.mockReset();
  post.mockReset();
  get.mockImplementation(async () => ({ data: { base_currency: "EUR" }, response: { ok: true } }));
});

describe("percent and shares", () => {
  it.each([
    ["2", "0.020000"],
    ["2.5", "0.025000"],
    ["33.3333", "0.333333"],
    ["100", "1.000000"],
    ["0", "0.000000"],
  ])("%s percent is the share %s", (typed, kept) => {
    expect(Number(share(typed))).toBe(Number(kept));
    expect(Number(percentText(kept))).toBe(Number(typed));
  });

  it("are not guessed: what is no number goes to the server as it was typed", () => {
    expect(share("2,5")).toBe("2,5");
    expect(share("two")).toBe("two");
    expect(share("33.33333")).toBe("0.3333333");
  });
});

const kept: { terms: Terms } = { terms: { kind: "net_days", days: 30 } };
function Fields({ terms }: { terms: Terms }) {
  const [now, set] = useState(terms);
  kept.terms = now;
  return <TermsFields terms={now} change={set} faults={undefined} disabled={false} />;
}

describe("terms as fields", () => {
  const choose = (label: string, value: string) =>
    fireEvent.change(screen.getByLabelText(label), { target: { value } });

  it("keeps the days and the discount when the kind is changed", () => {
    const discount = { rate: "0.02", days: 10, base: "gross", grace_days: 0, tax_adjusted: true } as const;
    render(<Fields terms={{ kind: "net_days", days: 14, discount }} />);
    choose("Falls due", "end_of_month");
    expect(kept.terms).toEqual({ kind: "end_of_month", plus_days: 14, discount });
    choose("Falls due", "day_of_month");
    expect(kept.terms).toEqual({ kind: "day_of_month", day: 14, discount });
    choose("Percent", "3");
    expect(kept.terms.discount?.rate).toBe("0.030000");
    fireEvent.click(screen.getByLabelText("Discount for paying early"));
    expect("discount" in kept.terms).toBe(false);
  });

  it("takes a percent key by key, its point and what follows", async () => {
    const user = userEvent.setup();
    const discount = { rate: "0.02", days: 10, base: "gross", grace_days: 0, tax_adjusted: true } as const;
    render(<Fields terms={{ kind: "net_days", days: 14, discount }} />);
    const field = screen.getByLabelText<HTMLInputElement>("Percent");
    await user.clear(field);
    await user.type(field, "2.05");
    expect(field.value).toBe("2.05");
    expect(kept.terms.discount?.rate).toBe("0.020500");
    await user.clear(field);
    await user.type(field, "2,5");
    expect(field.value).toBe("2,5");
    expect(screen.getByText("“2,5” is not a number. Write digits with a point, like 12.5.")).toBeTruthy();
    expect(kept.terms.discount?.rate).toBe("2,5");
  });

  it("makes installments, another part, and takes one off", () => {
    render(<Fields terms={{ kind: "net_days", days: 30 }} />);
    choose("Falls due", "instalments");
    expect(kept.terms).toMatchObject({ kind: "instalments", parts: [{ share: "0.5" }, { share: "0.5" }] });
    fireEvent.click(screen.getByText("Another part"));
    choose("Part 3, percent", "20");
    expect(kept.terms).toMatchObject({ parts: [{}, {}, { share: "0.200000", due: { kind: "net_days", days: 90 } }] });
    fireEvent.click(screen.getAllByText("Remove")[0] as HTMLElement);
    expect((kept.terms as { parts: unknown[] }).parts).toHaveLength(2);
  });
});

describe("terms of one invoice", () => {
  const invoice = (terms: Terms | null) =>
    ({
      to_bill: { picks: [], order_picks: [], added: [], terms },
      document: { document_date: { date: "2026-03-18" }, net: 10_000, total: 12_300, currency: "EUR" },
    }) as unknown as InvoiceView;

  function show(terms: Terms | null) {
    let now = invoice(terms).to_bill as ToBill;
    const close = vi.fn();
    const change = vi.fn((how: (before: ToBill) => ToBill) => {
      now = how(now);
    });
    render(
      <QueryClientProvider client={new QueryClient()}>
        <TermsAsk invoice={invoice(terms)} change={change} close={close} />
      </QueryClientProvider>,
    );
    return { close, change, now: () => now };
  }

  it("asks the server what they make of this very invoice, and keeps them", async () => {
    post.mockImplementation(async () => ({
      data: { words: "40 days net", net: 10_000, total: 12_300, parts: [{ date: "2026-04-27", amount: 12_300 }] },
      response: { ok: true },
    }));
    const asked = show(null);
    fireEvent.click(screen.getByLabelText("As the order or the customer has them"));
    fireEvent.change(screen.getByLabelText("Days"), { target: { value: "40" } });
    await screen.findByText("due 27 Apr 2026");
    expect(screen.getByText("100.00 net, 123.00 with tax")).toBeTruthy();
    const sent = post.mock.calls.at(-1)?.[1].body;
    expect(sent).toEqual({ terms: { kind: "net_days", days: 40 }, date: "2026-03-18", net: 10_000, total: 12_300 });
    fireEvent.click(screen.getByRole("button", { name: /Save/ }));
    await waitFor(() => expect(asked.close).toHaveBeenCalledTimes(1));
    expect(asked.now().terms).toEqual({ kind: "net_days", days: 40 });
  });

  it("refuses what are no terms and stays open", async () => {
    const error = { title: "A day of a month is 1 to 31.", code: "invalid", field: "terms.day" };
    post.mockImplementation(async () => ({ error, response: { ok: false } }));
    const asked = show({ kind: "day_of_month", day: 40 });
    fireEvent.click(screen.getByRole("button", { name: /Save/ }));
    expect((await screen.findByRole("alert")).textContent).toContain("A day of a month is 1 to 31.");
    expect(asked.close).not.toHaveBeenCalled();
    expect(asked.change).not.toHaveBeenCalled();
  });

  it("goes back to those of the order without asking anyone", async () => {
    post.mockImplementation(async () => ({ data: { words: "", parts: [], net: 0, total: 0 }, response: { ok: true } }));
    const asked = show({ kind: "net_days", days: 7 });
    fireEvent.click(screen.getByLabelText("As the order or the customer has them"));
    fireEvent.click(screen.getByRole("button", { name: /Save/ }));
    await waitFor(() => expect(asked.close).toHaveBeenCalledTimes(1));
    expect(asked.now().terms).toBeNull();
  });
});
