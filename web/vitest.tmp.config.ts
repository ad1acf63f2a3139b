import { defineConfig } from "vitest/config";
export default defineConfig({ test: { include: ["e2e/tmpshots.ts"], testTimeout: 120000 } });
