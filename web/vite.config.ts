import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 2500, assetsInlineLimit: 0 },
  // a busy machine takes its time; what hangs is found all the same
  test: { include: ['src/**/*.test.ts'], testTimeout: 120_000, hookTimeout: 120_000 },
});
