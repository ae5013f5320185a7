import { copyFile, readFile, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// The service puts a new nonce in place of this mark whenever it serves the page.
const NONCE = "@@nonce@@";

/** Writes each script and style compressed beside itself, for the service to send. */
const compressed: Plugin = {
  name: "compressed",
  apply: "build",
  async writeBundle({ dir = "" }, bundle) {
    for (const name of Object.keys(bundle).filter((each) => /\.(js|css)$/.test(each))) {
      const path = join(dir, name);
      await writeFile(`${path}.gz`, gzipSync(await readFile(path), { level: 9 }));
    }
  },
};

/** Tells the service which addresses are pages of the console. */
const pages: Plugin = {
  name: "pages",
  apply: "build",
  writeBundle: ({ dir = "" }) => copyFile("src/pages.json", join(dir, "pages.json")),
};

export default defineConfig({
  plugins: [react(), compressed, pages],
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
