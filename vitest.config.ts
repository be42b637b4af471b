import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";

const alias = { "@": fileURLToPath(new URL("./src", import.meta.url)) };

export default defineConfig({
  resolve: { alias },
  test: {
    projects: [
      {
        resolve: { alias },
        test: {
          name: "unit",
          include: ["src/**/*.test.{ts,tsx}"],
          testTimeout: 180_000,
          sequence: { groupOrder: 0 },
        },
      },
      {
        resolve: { alias },
        test: {
          name: "whole",
          include: ["tests/{api,faults,browser}/**/*.test.ts"],
          globalSetup: ["tests/template.ts"],
          testTimeout: 180_000,
          hookTimeout: 180_000,
          // each file has a console of its own, and waits more than it computes
          maxWorkers: 4,
          sequence: { groupOrder: 1 },
        },
      },
    ],
  },
});
