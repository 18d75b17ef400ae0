import { defineConfig } from 'vitest/config'

export default defineConfig({ test: { include: ['tests/**/*.test.ts'], setupFiles: ['tests/seed.ts'], testTimeout: 120_000, maxWorkers: 1 } })
