import { defineConfig } from "vitest/config";

export default defineConfig({
  test: { include: ["e2e/budgets.ts"], testTimeout: 120_000, hookTimeout: 120_000 },
});
