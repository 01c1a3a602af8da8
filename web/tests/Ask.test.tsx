// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Problem } from "../src/api/client";
import { Ask } from "../src/shell/Ask";

afterEach(cleanup);

describe("asking once before posting", () => {
  it("runs once however often it is clicked, and closes", async () => {
    const user = userEvent.setup();
    let finish: (() => void) | undefined;
    const posting = new Promise<void>((resolve) => {
      finish = resolve;
    });
    const run = vi.fn(() => posting);
    const close = vi.fn();
    render(
      <Ask title="Post?" yes="Post · €5.00" run={run} close={close}>
        It will be posted.
      </Ask>,
    );
    const yes = screen.getByRole("button", { name: /Post/ });
    yes.click();
    yes.click();
    await user.keyboard("{Enter}");
    expect(run).toHaveBeenCalledTimes(1);
    finish?.();
    await vi.waitFor(() => expect(close).toHaveBeenCalledTimes(1));
  });

  it("says what was refused, stays open, and tries again with the same key", async () => {
    const user = userEvent.setup();
    const keys: string[] = [];
    const run = vi.fn(async (key: string) => {
      keys.push(key);
      if (keys.length === 1) {
        throw new Problem({ code: "refused", title: "March is closed." });
      }
    });
    const close = vi.fn();
    render(
      <Ask title="Post?" yes="Post" run={run} close={close}>
        It will be posted.
      </Ask>,
    );
    await user.keyboard("{Enter}");
    expect((await screen.findByRole("alert")).textContent).toContain("March is closed.");
    expect(close).not.toHaveBeenCalled();
    await user.click(screen.getByRole("button", { name: /Post/ }));
    expect(keys[0]).toBe(keys[1]);
    expect(close).toHaveBeenCalledTimes(1);
  });

  it("does nothing on Esc", async () => {
    const user = userEvent.setup();
    const run = vi.fn();
    const close = vi.fn();
    render(
      <Ask title="Post?" yes="Post" run={run} close={close}>
        It will be posted.
      </Ask>,
    );
    await user.keyboard("{Escape}");
    expect(run).not.toHaveBeenCalled();
    expect(close).toHaveBeenCalledTimes(1);
  });
});
