import optimizeLocales from "@react-aria/optimize-locales-plugin";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [{ ...optimizeLocales.vite({ locales: ["en-GB", "en-US"] }), enforce: "pre" }, react()],
  // The service puts a fresh nonce in its place whenever it sends the page.
  html: { cspNonce: "__CSP_NONCE__" },
  // The service admits calls only from a page of the host that was called, so the proxy leaves the host as it is.
  server: { proxy: { "/api": { target: "http://127.0.0.1:7430", changeOrigin: false } } },
  build: { chunkSizeWarningLimit: 900 },
});
