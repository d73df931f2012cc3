import react from '@vitejs/plugin-react';
import {defineConfig} from 'vitest/config';

export default defineConfig({
  plugins: [react()],
  build: {outDir: '../src/rust_gauge/service/console_files', emptyOutDir: true, chunkSizeWarningLimit: 1200},
  server: {fs: {allow: ['..']}, proxy: {'/api': 'http://127.0.0.1:8850', '/problems': 'http://127.0.0.1:8850'}},
  // One process for each core, which loads what the tests share once; Vitest alone would leave a core idle.
  test: {
    environment: 'jsdom',
    testTimeout: 30_000,
    include: ['src/**/*.test.{ts,tsx}'],
    globals: false,
    pool: 'threads',
    isolate: false,
    maxWorkers: '100%',
  },
});
