import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service puts each answer's own nonce in the place of this mark; data: URLs
// are off because the content security policy does not let them in.
export default defineConfig({
  plugins: [react()],
  html: { cspNonce: "__CSP_NONCE__" },
  build: { outDir: "dist/console", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
});
