// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { KeysHelp } from "../src/shell/KeysHelp";
import { type Action, KeysProvider } from "../src/shell/keys";
import { Worktop } from "../src/shell/Worktop";

afterEach(cleanup);
beforeEach(() => localStorage.clear());

function screenWith(actions: Action[], extra?: React.ReactNode) {
  return render(
    <MemoryRouter>
      <KeysProvider>
        <div id="roll" />
        <main id="worktop">
          <Worktop title="A screen" actions={actions}>
            <input aria-label="A field" />
            {extra}
          </Worktop>
        </main>
        <KeysHelp />
      </KeysProvider>
    </MemoryRouter>,
  );
}

function action(key: string, run: () => void, more: Partial<Action> = {}): Action {
  return { key, label: `Do ${key}`, run, ...more };
}

describe("keys of a screen", () => {
  it("stand in a tab that is named as the screen is", () => {
    screenWith([]);
    expect(document.title).toBe("A screen · Glad Till");
  });

  it("do not act in a field; Esc leaves it, then they do", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    screenWith([action("n", run)]);
    const field = screen.getByLabelText<HTMLInputElement>("A field");
    await user.click(field);
    await user.keyboard("n");
    expect([run.mock.calls.length, field.value]).toEqual([0, "n"]);
    await user.keyboard("{Escape}n");
    // What was typed stays, and nothing else happened with the first Esc.
    expect([run.mock.calls.length, field.value, document.activeElement]).toEqual([1, "n", document.body]);
  });

  it("run what stands in the bar, by key and by mouse", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    screenWith([action("n", run)]);
    await user.keyboard("n");
    await user.click(screen.getByRole("button", { name: /Do n/ }));
    expect(run).toHaveBeenCalledTimes(2);
  });

  it("never act in a field", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    screenWith([action("n", run)]);
    await user.type(screen.getByLabelText("A field"), "no note");
    expect(run).not.toHaveBeenCalled();
  });

  it("do the main thing with Ctrl Enter, also from a field", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    screenWith([action("p", run, { primary: true })]);
    await user.click(screen.getByLabelText("A field"));
    await user.keyboard("{Control>}{Enter}{/Control}");
    expect(run).toHaveBeenCalledTimes(1);
  });

  it("leave a disabled action alone", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    screenWith([action("p", run, { primary: true, disabled: true })]);
    await user.keyboard("p{Control>}{Enter}{/Control}");
    expect(run).not.toHaveBeenCalled();
  });

  it("always run the action of the latest drawing", async () => {
    const user = userEvent.setup();
    const first = vi.fn();
    const second = vi.fn();
    const page = (run: () => void) => (
      <MemoryRouter>
        <KeysProvider>
          <div id="roll" />
          <Worktop title="A screen" actions={[action("n", run)]}>
            text
          </Worktop>
        </KeysProvider>
      </MemoryRouter>
    );
    const { rerender } = render(page(first));
    rerender(page(second));
    await user.keyboard("n");
    expect(first).not.toHaveBeenCalled();
    expect(second).toHaveBeenCalledTimes(1);
  });

  it("are listed with ?, and single letters can be switched off for good", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    screenWith([action("n", run)]);
    await user.keyboard("?");
    expect(screen.getByRole("dialog", { name: "Keys on this screen" }).textContent).toContain("Do n");
    await user.click(screen.getByRole("checkbox"));
    await user.click(screen.getByRole("button", { name: /Close/ }));
    await user.keyboard("n");
    expect(run).not.toHaveBeenCalled();
    expect(localStorage.getItem("till.letters")).toBe("off");
  });

  it("find the list when nothing has the focus", async () => {
    const user = userEvent.setup();
    const pressed = vi.fn();
    screenWith([], <div role="grid" tabIndex={0} onKeyDown={(event) => pressed(event.key)} />);
    await user.keyboard("{ArrowDown}");
    expect(pressed).toHaveBeenCalledExactlyOnceWith("ArrowDown");
    expect(document.activeElement).toBe(screen.getByRole("grid"));
  });
});
