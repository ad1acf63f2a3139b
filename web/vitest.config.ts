import { defineConfig } from "vitest/config";

export default defineConfig({
  test: {
    include: ["src/**/*.test.{ts,tsx}", "e2e/**/*.spec.ts"],
    // What hangs is told by the 30 s that each single wait has; a test of three changeovers on a slow disk takes its time.
    testTimeout: 120_000,
    hookTimeout: 120_000,
    fileParallelism: true,
    maxWorkers: 2,
  },
});
