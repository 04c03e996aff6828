import { defineConfig } from "vite";

/** The pages' logic without the pages, as one file that node can read: `cargo test` holds it by its tables of cases. */
export default defineConfig({
  publicDir: false,
  build: { lib: { entry: "src/models.ts", formats: ["es"], fileName: "models" }, outDir: "node_modules/.models", emptyOutDir: true, rollupOptions: { onwarn: (w, tell) => w.code === "MODULE_LEVEL_DIRECTIVE" || tell(w) } },
});
