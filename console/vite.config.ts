import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: {
    target: "es2023",
    chunkSizeWarningLimit: 600,
    rolldownOptions: { input: ["index.html", "portal.html"] },
  },
  server: { proxy: { "/api": "http://127.0.0.1:3820" } },
  // A machine that has other work to do is slower, and nothing is wrong with that.
  test: { environment: "jsdom", setupFiles: ["src/test/setup.ts"], testTimeout: 60_000 },
});
