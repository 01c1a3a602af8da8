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

  it("stays where it was told to, and can be asked again", async () => {
    const user = userEvent.setup();
    const run = vi.fn().mockResolvedValueOnce(false).mockResolvedValueOnce(undefined);
    const close = vi.fn();
    render(
      <Ask title="Look?" yes="Look again" run={run} close={close}>
        Something stands in the way.
      </Ask>,
    );
    await user.keyboard("{Enter}");
    await vi.waitFor(() => expect(run).toHaveBeenCalledTimes(1));
    expect(close).not.toHaveBeenCalled();
    await user.click(screen.getByRole("button", { name: /Look again/ }));
    expect(close).toHaveBeenCalledTimes(1);
  });

  it("does nothing while it is worked out, then takes the focus, and Enter in a field sends it", async () => {
    const user = userEvent.setup();
    const run = vi.fn(async () => undefined);
    const asked = (disabled: boolean) => (
      <Ask title="Post?" yes="Post" run={run} close={() => undefined} disabled={disabled}>
        <input aria-label="Remarks" />
      </Ask>
    );
    const { rerender } = render(asked(true));
    await user.keyboard("{Enter}");
    await user.type(screen.getByLabelText("Remarks"), "till 2{Enter}");
    expect(run).not.toHaveBeenCalled();
    screen.getByLabelText("Remarks").blur();
    rerender(asked(false));
    expect(document.activeElement).toBe(screen.getByRole("button", { name: /Post/ }));
    await user.type(screen.getByLabelText("Remarks"), "{Enter}");
    expect(run).toHaveBeenCalledTimes(1);
  });
});
