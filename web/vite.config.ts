import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  // Customers have a page of their own, with nothing of the application in it.
  build: {
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1500,
    rollupOptions: { input: ["index.html", "page.html"] },
  },
  // The handbook stands beside the sources.
  server: { proxy: { "/api": "http://127.0.0.1:8484" }, fs: { allow: [".."] } },
  // Generous: the machine may be building something else meanwhile.
  test: { testTimeout: 60_000, setupFiles: ["tests/setup.ts"] },
});
