import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service puts a new nonce in place of this mark whenever it serves the page.
const NONCE = "@@nonce@@";

export default defineConfig({
  plugins: [react()],
  html: { cspNonce: NONCE },
  build: {
    chunkSizeWarningLimit: 700,
    rolldownOptions: { input: ["index.html", "guest.html"] },
    outDir: "../fond_echo/web/static",
    emptyOutDir: true,
    assetsInlineLimit: 0,
  },
  server: { proxy: { "/api": "http://127.0.0.1:8770" } },
});
