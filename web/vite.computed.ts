import { defineConfig } from "vite";

/** What computes in the console, as one script for the tests. */
export default defineConfig({
  define: { "process.env.NODE_ENV": '"test"' },
  publicDir: false,
  build: {
    outDir: "computed",
    lib: { entry: "src/computed.ts", name: "computed", formats: ["iife"], fileName: () => "computed.js" },
  },
});
