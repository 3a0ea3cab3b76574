import optimizeLocales from "@react-aria/optimize-locales-plugin";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [{ ...optimizeLocales.vite({ locales: ["en-GB", "en-US"] }), enforce: "pre" }, react()],
  // The service puts a fresh nonce in its place whenever it sends the page.
  html: { cspNonce: "__CSP_NONCE__" },
  server: { proxy: { "/api": "http://127.0.0.1:7430", "/health": "http://127.0.0.1:7430" } },
  build: { chunkSizeWarningLimit: 900 },
});
