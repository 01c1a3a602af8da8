// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { got, keyed, newKey, Problem } from "../src/api/client";
import { FilterField, StateChips, useFilter } from "../src/parts/bits";
import { PickedSum } from "../src/parts/picks";
import { neighbour, placeOf, rememberSequence } from "../src/places";

afterEach(cleanup);
beforeEach(() => sessionStorage.clear());

const answer = (ok: boolean, status: number) => ({ ok, status }) as Response;

/** What a call was refused with. */
async function refused(call: Parameters<typeof got>[0]): Promise<Problem> {
  try {
    await got(call);
  } catch (error) {
    if (error instanceof Problem) {
      return error;
    }
  }
  throw new Error("it was not refused with a problem");
}

describe("asking the server", () => {
  it("gives the data of an answer", async () => {
    expect(await got(Promise.resolve({ data: 7, response: answer(true, 200) }))).toBe(7);
  });

  it("turns a refusal into a problem with its field and its blockers", async () => {
    const error = {
      title: "Enter an amount above zero.",
      code: "refused",
      field: "amount",
      blockers: [{ check: "x" }],
    };
    const problem = await refused(Promise.resolve({ error, response: answer(false, 422) }));
    expect([problem.message, problem.code, problem.field, problem.blockers.length]).toEqual([
      "Enter an amount above zero.",
      "refused",
      "amount",
      1,
    ]);
  });

  it("says that nothing was lost when the server cannot be reached", async () => {
    const problem = await refused(Promise.reject(new TypeError("fetch failed")));
    expect(problem.code).toBe("unreachable");
    expect(problem.message).toContain("Nothing was lost");
  });

  it("says something useful even where the answer is no problem document", async () => {
    const problem = await refused(Promise.resolve({ error: "<html>", response: answer(false, 502) }));
    expect(problem.message).toContain("Try again");
  });

  it("names each change by a key of its own", () => {
    expect(newKey()).not.toBe(newKey());
    expect(keyed("abc")).toEqual({ "Idempotency-Key": "abc" });
  });
});

describe("places", () => {
  it("knows where each kind of document lives", () => {
    const places = (["order", "shipment", "invoice", "receipt", "customer", "entry", "intake", "opening"] as const).map(
      (kind) => placeOf({ kind, id: 5, number: "X" }),
    );
    expect(places).toEqual([
      "/orders/5",
      "/shipments/5",
      "/invoices/5",
      "/receipts/5",
      "/customers/5",
      "/entries/5",
      "/items",
      "/ledger/open-items",
    ]);
  });

  it("walks through the list a document was opened from", () => {
    rememberSequence(["/orders/1", "/orders/2", "/orders/3"]);
    expect(neighbour("/orders/2", 1)).toBe("/orders/3");
    expect(neighbour("/orders/2", -1)).toBe("/orders/1");
    expect(neighbour("/orders/3", 1)).toBeUndefined();
    expect(neighbour("/orders/9", 1)).toBeUndefined();
  });
});

function Filters() {
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const { search: address } = useLocation();
  return (
    <>
      <FilterField label="Words" />
      <StateChips
        name="state"
        choices={[
          ["", "All"],
          ["open", "Open"],
        ]}
      />
      <output>{`${search}|${state}|${address}`}</output>
    </>
  );
}

describe("filters", () => {
  const shown = () => screen.getByRole("status").textContent;

  it("live in the address", async () => {
    const user = userEvent.setup();
    render(
      <QueryClientProvider client={new QueryClient()}>
        <MemoryRouter initialEntries={["/orders?state=open"]}>
          <Filters />
        </MemoryRouter>
      </QueryClientProvider>,
    );
    expect(shown()).toBe("|open|?state=open");
    expect(screen.getByRole("button", { name: "Open" }).getAttribute("aria-pressed")).toBe("true");
    await user.keyboard("/");
    expect(document.activeElement).toBe(screen.getByLabelText("Words"));
    await user.keyboard("jars & lids{Enter}");
    expect(shown()).toBe("jars & lids|open|?state=open&q=jars+%26+lids");
    await user.click(screen.getByRole("button", { name: "All" }));
    expect(shown()).toBe("jars & lids||?q=jars+%26+lids");
    await user.click(screen.getByLabelText("Words"));
    await user.keyboard("{Escape}");
    expect(shown()).toBe("||");
  });
});

describe("what is picked", () => {
  it("adds up by currency, without floating point", () => {
    const spy = vi.spyOn(console, "error");
    const amounts = [
      { minor: 9007199254740991, currency: "EUR" },
      { minor: -9007199254740990, currency: "EUR" },
      { minor: 250, currency: "GBP" },
    ];
    const { container } = render(<PickedSum count={3} one="receipt" more="receipts" sums={[["Amount", amounts]]} />);
    const rows = [...container.querySelectorAll(".sum")].map((row) => row.textContent);
    expect(rows).toEqual(["Amount EUR0.01", "Amount GBP2.50"]);
    expect(spy).not.toHaveBeenCalled();
  });

  it("takes no room when nothing is picked", () => {
    const { container } = render(<PickedSum count={0} one="receipt" more="receipts" sums={[]} />);
    expect(container.textContent).toBe("");
  });
});
