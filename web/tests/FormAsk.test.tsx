// @vitest-environment jsdom
import { ThemeProvider } from "@mui/material/styles";
import { cleanup, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";
import { Problem } from "../src/api/client";
import { FormAsk, type FormField } from "../src/parts/FormAsk";
import { theme } from "../src/theme/theme";

afterEach(cleanup);

const fields: FormField[] = [
  { name: "next", label: "Next number", value: "100", right: true },
  {
    name: "role",
    label: "Role",
    value: "lead",
    choices: [
      ["clerk", "clerk"],
      ["lead", "lead"],
    ],
  },
  { name: "active", label: "Can sign in", kind: "tick", value: "on" },
  { name: "reason", label: "Why", kind: "words" },
];

function show(run: (values: Record<string, string>, key: string) => Promise<void>, close = vi.fn()) {
  render(
    <ThemeProvider theme={theme}>
      <FormAsk title="Move it" yes="Move" fields={fields} run={run} close={close} />
    </ThemeProvider>,
  );
  return close;
}

test("hands over what was typed, and closes when it is done", async () => {
  const run = vi.fn(async () => undefined);
  const close = show(run);
  await userEvent.type(screen.getByLabelText("Why"), "a new book");
  await userEvent.click(screen.getByText("Move"));
  await waitFor(() => expect(close).toHaveBeenCalled());
  expect(run).toHaveBeenCalledWith(
    { next: "100", role: "lead", active: "on", reason: "a new book" },
    expect.any(String),
  );
});

test("what is wrong stands at its field; what is typed next is another request", async () => {
  const keys: string[] = [];
  const close = show(async (_, key) => {
    keys.push(key);
    throw new Problem({ code: "invalid", title: "Say why.", field: "reason" });
  });
  await userEvent.click(screen.getByText("Move"));
  await screen.findByText("Say why.");
  expect(screen.getByLabelText("Why").getAttribute("aria-invalid")).toBe("true");
  await userEvent.click(screen.getByText("Move"));
  await waitFor(() => expect(keys).toHaveLength(2));
  expect(keys[0]).not.toBe(keys[1]);
  expect(close).not.toHaveBeenCalled();
});

test("a lost connection tries the same request again, so that it is done once", async () => {
  const keys: string[] = [];
  show(async (_, key) => {
    keys.push(key);
    throw new Problem({ code: "unreachable", title: "Not reached." });
  });
  await userEvent.click(screen.getByText("Move"));
  await screen.findByText(/Not reached/);
  await userEvent.click(screen.getByText("Move"));
  await waitFor(() => expect(keys).toHaveLength(2));
  expect(keys[0]).toBe(keys[1]);
});

test("a second click while it runs does nothing", async () => {
  let finish: () => void = () => undefined;
  const run = vi.fn(
    () =>
      new Promise<void>((resolve) => {
        finish = resolve;
      }),
  );
  const close = show(run);
  const button = screen.getByText("Move");
  await userEvent.dblClick(button);
  finish();
  await waitFor(() => expect(close).toHaveBeenCalledTimes(1));
  expect(run).toHaveBeenCalledTimes(1);
});

test("takes Enter as its button says, also from words, and without any field", async () => {
  const run = vi.fn(async () => undefined);
  const close = show(run);
  await userEvent.type(screen.getByLabelText("Why"), "two{Shift>}{Enter}{/Shift}lines");
  expect(run).not.toHaveBeenCalled();
  await userEvent.keyboard("{Enter}");
  await waitFor(() => expect(close).toHaveBeenCalled());
  expect(run).toHaveBeenCalledWith(expect.objectContaining({ reason: "two\nlines" }), expect.any(String));
  cleanup();
  const bare = vi.fn(async () => undefined);
  render(
    <ThemeProvider theme={theme}>
      <FormAsk title="Confirm it" yes="Confirm" fields={[]} run={bare} close={vi.fn()} />
    </ThemeProvider>,
  );
  await userEvent.keyboard("{Enter}");
  await waitFor(() => expect(bare).toHaveBeenCalledOnce());
});
