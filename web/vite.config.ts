import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

// The built console goes where the service embeds it.
export default defineConfig({
  plugins: [vue()],
  build: { outDir: '../internal/server/console/dist', emptyOutDir: true, chunkSizeWarningLimit: 1500 },
  server: { proxy: { '/api': 'http://127.0.0.1:8427' } },
})
