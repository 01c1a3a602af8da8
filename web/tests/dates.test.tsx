// @vitest-environment jsdom
// Dates as people type them: read, moved by keys, refused where they are none.
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { DateField } from "../src/parts/DateField";
import { daysAfter, isDay, monthsAfter, typedDay } from "../src/parts/dates";
import { FormAsk } from "../src/parts/FormAsk";

afterEach(cleanup);

const today = "2026-03-18";

describe("what is typed", () => {
  it.each([
    ["2026-03-18", "2026-03-18"],
    ["18 Mar 2026", "2026-03-18"],
    ["18 March 2026", "2026-03-18"],
    ["18mar", "2026-03-18"],
    ["Mar 18", "2026-03-18"],
    ["March 18, 2027", "2027-03-18"],
    ["18/3", "2026-03-18"],
    ["18/3/27", "2027-03-18"],
    ["1.4.", "2026-04-01"],
    ["1.4.2026", "2026-04-01"],
    // The day comes first, unless only the other way round is a date.
    ["4/5", "2026-05-04"],
    ["3/18", "2026-03-18"],
    ["29 Feb 2028", "2028-02-29"],
    ["20", "2026-03-20"],
    ["+14", "2026-04-01"],
    ["-18", "2026-02-28"],
    ["\u22121", "2026-03-17"],
    ["today", "2026-03-18"],
    ["Tomorrow", "2026-03-19"],
    // Without a year, the nearest.
    ["28 Dec", "2025-12-28"],
    ["1/9", "2026-09-01"],
  ])("%s is %s", (typed, day) => expect(typedDay(typed, today)).toBe(day));

  it.each(["31 Feb", "31/2", "29/2/2026", "32", "0", "18 Foo", "soon", "18/3/1", "1/2/3/4", "2026-02-30", "+"])(
    "%s is no date",
    (typed) => expect(typedDay(typed, today)).toBeUndefined(),
  );

  it("moves by days and months as the calendar does", () => {
    expect(daysAfter("2026-12-31", 1)).toBe("2027-01-01");
    expect(daysAfter("2028-03-01", -1)).toBe("2028-02-29");
    expect(monthsAfter("2026-01-31", 1)).toBe("2026-02-28");
    expect(monthsAfter("2026-03-31", -1)).toBe("2026-02-28");
    expect(monthsAfter("2026-12-15", 1)).toBe("2027-01-15");
    expect([isDay("2026-02-29"), isDay("2028-02-29"), isDay("18 Mar 2026")]).toEqual([false, true, false]);
  });
});

function stand(element: React.ReactNode) {
  const queries = new QueryClient();
  queries.setQueryData(["spine"], { business_date: today });
  queries.setQueryDefaults(["spine"], { staleTime: Number.POSITIVE_INFINITY });
  return render(<QueryClientProvider client={queries}>{element}</QueryClientProvider>);
}

function Dated() {
  const [typed, setTyped] = useState("");
  return (
    <>
      <DateField label="Date" typed={typed} assumed={today} onType={setTyped} from="the business date" />
      <output>{typed}</output>
    </>
  );
}

const field = () => screen.getByLabelText<HTMLInputElement>("Date");
const kept = () => screen.getByRole("status").textContent;

describe("a date field", () => {
  it("shows what is assumed, and says so, until another is typed", async () => {
    const user = userEvent.setup();
    stand(<Dated />);
    expect(field().value).toBe("18 Mar 2026");
    expect(screen.getByText("the business date")).toBeTruthy();
    await user.type(field(), "20/3");
    await user.tab();
    expect(field().value).toBe("20 Mar 2026");
    expect(kept()).toBe("2026-03-20");
    expect(screen.queryByText("the business date")).toBeNull();
    await user.clear(field());
    await user.tab();
    expect([field().value, kept()]).toEqual(["18 Mar 2026", ""]);
  });

  it("takes over what rests, and what Enter ends; the arrows and the page keys move it", async () => {
    const user = userEvent.setup();
    stand(<Dated />);
    await user.type(field(), "+14");
    expect(kept()).toBe("");
    await vi.waitFor(() => expect(kept()).toBe("2026-04-01"));
    await user.keyboard("{ArrowUp}");
    expect(field().value).toBe("2 Apr 2026");
    await user.keyboard("{PageDown}");
    expect([field().value, kept()]).toEqual(["2 Mar 2026", "2026-03-02"]);
    await user.clear(field());
    await user.type(field(), "5 mar{Enter}");
    expect(kept()).toBe("2026-03-05");
  });

  it("says what is no date, and hands it on for the server to refuse", async () => {
    const user = userEvent.setup();
    stand(<Dated />);
    await user.type(field(), "31 Feb");
    await user.tab();
    expect(screen.getByText("31 Feb is not a date. Write 18 Mar 2026, 18/3, or +14.")).toBeTruthy();
    expect([field().value, kept()]).toEqual(["31 Feb", "31 Feb"]);
  });

  it("opens a calendar, by its button and by Alt with Down", async () => {
    const user = userEvent.setup();
    stand(<Dated />);
    await user.click(screen.getByRole("button", { name: "Calendar for Date" }));
    await user.click(await screen.findByRole("gridcell", { name: "25" }));
    expect(kept()).toBe("2026-03-25");
    fireEvent.keyDown(field(), { key: "ArrowDown", altKey: true });
    expect((await screen.findByRole("gridcell", { name: "25" })).getAttribute("aria-selected")).toBe("true");
  });

  it("is sent under its name where a form asks for it", async () => {
    const user = userEvent.setup();
    const run = vi.fn(async () => undefined);
    stand(
      <FormAsk
        title="Expected"
        yes="Save"
        fields={[{ name: "on", label: "Date", kind: "date", value: "2026-03-01" }]}
        run={run}
        close={() => undefined}
      />,
    );
    expect(field().value).toBe("1 Mar 2026");
    await user.clear(field());
    await user.type(field(), "+1{Enter}");
    expect(run).toHaveBeenCalledWith({ on: "2026-03-19" }, expect.any(String));
  });
});
