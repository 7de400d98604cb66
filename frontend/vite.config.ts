import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

/** Node is no part of what the pages are typed by. */
declare const process: { env: Record<string, string | undefined> };

export default defineConfig({
  plugins: [react()],
  css: {
    preprocessorOptions: {
      // Bootstrap 5.3 still uses what newer Sass warns of.
      scss: {
        quietDeps: true,
        silenceDeprecations: ["import", "global-builtin", "color-functions", "if-function"],
      },
    },
  },
  server: {
    proxy: {
      "/api": { target: process.env.MOSSY_SERVER ?? "http://127.0.0.1:8750", changeOrigin: true },
    },
  },
});
