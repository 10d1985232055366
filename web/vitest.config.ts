import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react()],
  test: {
    environment: 'jsdom',
    include: ['unit/**/*.test.{ts,tsx}'],
    setupFiles: ['unit/setup.ts'],
    testTimeout: 30_000,
  },
});
