import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 2500, assetsInlineLimit: 0 },
  test: {
    include: ['src/**/*.test.ts'],
    // one process loads React and the like once for all files, which give back what they put in place of globals
    isolate: false,
    maxWorkers: 1,
    // a busy machine takes its time; what hangs is found all the same
    testTimeout: 120_000,
    hookTimeout: 120_000,
  },
});
