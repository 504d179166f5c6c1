import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Everything is served by the service itself; fonts stay files so that the content policy needs no exception.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 800 },
  server: { proxy: { "/api": "http://127.0.0.1:7400" } },
  // A busy machine takes its time.
  test: { environment: "jsdom", setupFiles: ["src/testing/setup.ts"], testTimeout: 60_000 },
});
