import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "../src/ivory_table/web", emptyOutDir: true, assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  test: { environment: "jsdom" },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8765", changeOrigin: true, headers: { origin: "http://127.0.0.1:8765" } } } },
});
