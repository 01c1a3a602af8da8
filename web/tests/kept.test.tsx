// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, expect, test } from "vitest";
import type { SignedIn } from "../src/api/types";
import { useForget, useKept, useKeptState } from "../src/parts/kept";
import { SignedInAs } from "../src/shell/session";

afterEach(cleanup);

const person = (id: number): SignedIn => ({
  id,
  name: `person ${id}`,
  sign_in: `p${id}`,
  role: "clerk",
  must_change: false,
  may: [],
  csrf: "token",
});

const nothing = { why: "", lines: {} as Record<number, string> };

function form(name: string | undefined, id = 1) {
  const wrapper = ({ children }: { children: ReactNode }) => <SignedInAs person={person(id)}>{children}</SignedInAs>;
  return renderHook(({ form }) => useKept(form, nothing), { wrapper, initialProps: { form: name } });
}

test("what was typed outlives the page, for the one who typed it, until it is forgotten", () => {
  const first = form("credit.7");
  act(() => first.result.current.type({ why: "damaged" }));
  act(() => first.result.current.type((now) => ({ lines: { ...now.lines, 2: "3" } })));
  first.unmount();
  const again = form("credit.7");
  expect(again.result.current.typed).toEqual({ why: "damaged", lines: { 2: "3" } });
  // Neither another form nor another person sees it.
  expect(form("credit.8").result.current.typed).toEqual(nothing);
  expect(form("credit.7", 2).result.current.typed).toEqual(nothing);
  act(() => again.result.current.forget());
  expect(form("credit.7").result.current.typed).toEqual(nothing);
});

test("a form with no name keeps nothing, and another form in its place has its own", () => {
  const one = form(undefined);
  act(() => one.result.current.type({ why: "looked at" }));
  expect(one.result.current.typed.why).toBe("looked at");
  one.rerender({ form: "receive" });
  expect(one.result.current.typed).toEqual(nothing);
  act(() => one.result.current.type({ why: "wet" }));
  one.rerender({ form: "inspect" });
  expect(one.result.current.typed.why).toBe("");
  one.rerender({ form: "receive" });
  expect(one.result.current.typed.why).toBe("wet");
});

test("what was kept and cannot be read is as if nothing were", () => {
  sessionStorage.setItem("till.kept.1.broken", "{not json");
  expect(form("broken").result.current.typed).toEqual(nothing);
});

function field(name: string | undefined, id = 1) {
  const wrapper = ({ children }: { children: ReactNode }) => <SignedInAs person={person(id)}>{children}</SignedInAs>;
  const use = ({ form }: { form: string | undefined }) => ({
    state: useKeptState<string>(form, "amount", "0"),
    forget: useForget(form),
  });
  return renderHook(use, { wrapper, initialProps: { form: name } });
}

test("a field is kept by itself, goes along to another customer's form, and is forgotten with its form", () => {
  const first = field("receipt.");
  expect(first.result.current.state[0]).toBe("0");
  act(() => first.result.current.state[1]("12"));
  act(() => first.result.current.state[1]((now) => `${now}.50`));
  // A customer is chosen: what was typed before goes along.
  first.rerender({ form: "receipt.7" });
  expect(first.result.current.state[0]).toBe("12.50");
  act(() => first.result.current.state[1]("13"));
  first.unmount();
  expect(field("receipt.7").result.current.state[0]).toBe("13");
  expect(field("receipt.8").result.current.state[0]).toBe("0");
  expect(field("receipt.7", 2).result.current.state[0]).toBe("0");
  // Where something was kept for that customer, it comes back.
  const other = field("receipt.8");
  act(() => other.result.current.state[1]("99"));
  other.rerender({ form: "receipt.7" });
  expect(other.result.current.state[0]).toBe("13");
  act(() => other.result.current.forget());
  expect(field("receipt.7").result.current.state[0]).toBe("0");
  expect(field("receipt.8").result.current.state[0]).toBe("99");
});
