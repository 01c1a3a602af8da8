import "@fontsource-variable/source-sans-3/wght.css";
import "@fontsource/spline-sans-mono/400.css";
import "@fontsource/spline-sans-mono/600.css";
import "@fontsource/spline-sans-mono/700.css";
import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Problem } from "./api/client";
import { fetchRooms, routes } from "./routes";
import { SessionGate } from "./shell/session";
import { theme } from "./theme/theme";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // What the server refused will be refused again; only a lost connection is worth another try.
      retry: (count, error) => count < 2 && error instanceof Problem && error.code === "unreachable",
    },
  },
});

const router = createBrowserRouter(routes);
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <ThemeProvider theme={theme}>
          <CssBaseline />
          <SessionGate>
            <RouterProvider router={router} />
          </SessionGate>
        </ThemeProvider>
      </QueryClientProvider>
    </StrictMode>,
  );
}

// A moment after the first screen stands the others are fetched too.
window.addEventListener("load", () => window.setTimeout(() => void fetchRooms(), 2_000), { once: true });
