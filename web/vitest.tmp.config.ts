import { defineConfig } from "vitest/config";
export default defineConfig({ test: { include: ["e2e/tmpshots.ts"], testTimeout: 180000, hookTimeout: 120000 } });
