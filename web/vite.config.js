import react from "@vitejs/plugin-react";
import { gzipSync } from "node:zlib";
import { defineConfig } from "vite";

/** Script of the first page, packed, in bytes. */
const FIRST_PAGE = 150_000;

/** The build fails when the first page's script has grown too large: that of the frame, of Today, and of all they need. */
const firstPage = {
  name: "first-page",
  generateBundle(_, bundle) {
    const chunks = Object.values(bundle).filter((c) => c.type === "chunk");
    const needed = new Set();
    const need = (file) => {
      const chunk = chunks.find((c) => c.fileName === file);
      if (!chunk || needed.has(chunk)) return;
      needed.add(chunk);
      chunk.imports.forEach(need);
    };
    const first = chunks.filter((c) => c.isEntry || c.facadeModuleId?.endsWith("/TodayPage.tsx"));
    first.forEach((c) => need(c.fileName));
    const size = [...needed].reduce((sum, c) => sum + gzipSync(c.code).length, 0);
    const words = `the first page's script is ${size.toLocaleString("en")} bytes packed, in ${needed.size} files`;
    if (first.length < 2 || size > FIRST_PAGE)
      this.error(`${words}; at most ${FIRST_PAGE.toLocaleString("en")} are wanted`);
    console.log(words);
  },
};

export default defineConfig({
  plugins: [react(), firstPage],
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:7411" } },
});
