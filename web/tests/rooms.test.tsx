// @vitest-environment jsdom
import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { lazy, Suspense } from "react";
import { createMemoryRouter, RouterProvider } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { KeysProvider } from "../src/shell/keys";
import { NotFetched } from "../src/shell/LostWay";
import { NoticesProvider } from "../src/shell/notices";
import { theme } from "../src/theme/theme";

// React tells the console of everything a boundary catches.
beforeEach(() => vi.spyOn(console, "error").mockImplementation(() => undefined));
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

function opened(error: Error) {
  const Room = lazy(async () => Promise.reject(error));
  const element = (
    <Suspense fallback={null}>
      <Room />
    </Suspense>
  );
  const router = createMemoryRouter([
    { path: "/", errorElement: <p>passed on</p>, children: [{ index: true, element, errorElement: <NotFetched /> }] },
  ]);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <ThemeProvider theme={theme}>
        <KeysProvider>
          <NoticesProvider>
            <div id="roll" />
            <main id="worktop">
              <RouterProvider router={router} />
            </main>
          </NoticesProvider>
        </KeysProvider>
      </ThemeProvider>
    </QueryClientProvider>,
  );
}

test("a room that could not be fetched says what to do", async () => {
  opened(new TypeError("Failed to fetch dynamically imported module: /assets/Orders.js"));
  await screen.findByText(/could not be fetched from the server/);
  expect(screen.getByRole("button", { name: /Try again/ })).toBeTruthy();
});

test("what is wrong in a room itself is not taken for that", async () => {
  opened(new Error("undefined is not an object"));
  await screen.findByText("passed on");
});
