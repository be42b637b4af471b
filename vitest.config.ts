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
          include: ["src/**/*.test.{ts,tsx}", "tests/folders.test.ts"],
          globalSetup: ["tests/folders.ts"],
          setupFiles: ["tests/each-file.ts"],
          testTimeout: 180_000,
          sequence: { groupOrder: 0 },
        },
      },
      // what seals and opens, once more with the other cipher
      {
        resolve: { alias },
        test: {
          name: "node's cipher",
          include: [
            "src/store/{*/{gcm,sealing,writer,browse,check},store}.test.ts",
            "tests/api/second-reader.test.ts",
          ],
          globalSetup: ["tests/folders.ts", "tests/template.ts"],
          setupFiles: ["tests/each-file.ts"],
          env: { DEEPKEEP_CIPHER: "node" },
          testTimeout: 180_000,
          hookTimeout: 180_000,
          sequence: { groupOrder: 0 },
        },
      },
      {
        resolve: { alias },
        test: {
          name: "whole",
          // what measures is asked for by name
          include: [
            process.env.DEEPKEEP_MEASURE
              ? "tests/measure/*.test.ts"
              : "tests/{api,faults,browser}/**/*.test.ts",
          ],
          globalSetup: ["tests/folders.ts", "tests/template.ts"],
          setupFiles: ["tests/each-file.ts"],
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
