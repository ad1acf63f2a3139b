import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";
import { compression } from "vite-plugin-compression2";

// The service puts each answer's own nonce in the place of this mark; data: URLs
// are off because the content security policy does not let them in.
export default defineConfig({
  // What is sent is compressed once, here; the service picks the file by what a browser takes.
  plugins: [
    react(),
    compression({ algorithms: ["brotliCompress"], threshold: 1024, exclude: [/index\.html$/] }),
  ],
  html: { cspNonce: "__CSP_NONCE__" },
  build: { outDir: "dist/console", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
});
