import { lezer } from "@lezer/generator/rollup";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [lezer(), react(), tailwindcss()],
  // For work on the console: `npx vite` beside a running demo.
  server: { proxy: { "/api": "http://127.0.0.1:8480" } },
});
