import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  // The server writes the path under which it stands in front of these addresses.
  base: "./",
  plugins: [react(), tailwindcss()],
  build: { outDir: "../src/kind_echo/web/static", emptyOutDir: true },
});
