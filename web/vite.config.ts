import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';
import { texts } from './texts.mjs';

export default defineConfig({
  plugins: [texts(), react()],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 1500 },
  server: { proxy: { '/api': 'http://127.0.0.1:8460' } },
});
