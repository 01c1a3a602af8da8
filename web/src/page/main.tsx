import "@fontsource-variable/source-sans-3/wght.css";
import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { theme } from "../theme/theme";
import { takeLink } from "./link";
import { CustomerPage } from "./Page";

takeLink();
// What the server refused will be refused again.
const queries = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: 60_000 } } });
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <ThemeProvider theme={theme}>
          <CssBaseline />
          <CustomerPage />
        </ThemeProvider>
      </QueryClientProvider>
    </StrictMode>,
  );
}
