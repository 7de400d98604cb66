import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

declare const process: { env: Record<string, string | undefined> };

/** Pages in a document of their own, with the answers of a server that runs. */
export default defineConfig({
  plugins: [react()],
  test: {
    include: ["tests/live/*.test.tsx"],
    environment: "happy-dom",
    environmentOptions: { happyDOM: { url: process.env.MOSSY_SERVER ?? "" } },
  },
});
