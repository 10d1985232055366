import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';
import { texts } from './texts.mjs';

export default defineConfig({
  plugins: [texts(), react()],
  test: {
    environment: 'jsdom',
    env: { TZ: 'Europe/London' }, // where days have 23, 24 and 25 hours
    include: ['unit/**/*.test.{ts,tsx}'],
    setupFiles: ['unit/setup.ts'],
    testTimeout: 30_000,
  },
});
