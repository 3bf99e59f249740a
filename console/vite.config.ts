import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: { target: "es2023", chunkSizeWarningLimit: 600 },
  server: { proxy: { "/api": "http://127.0.0.1:3820" } },
  test: { environment: "jsdom", setupFiles: ["src/test/setup.ts"] },
});
