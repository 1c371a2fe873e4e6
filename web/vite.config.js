import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, constants } from 'node:zlib'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

const outDir = '../internal/server/console/dist'

// Each file lies beside itself as small as it gets (RFC 7932): the service compresses nothing anew.
const compressed = {
  name: 'compressed',
  closeBundle() {
    for (const file of readdirSync(join(outDir, 'assets'))) {
      if (!/\.(js|mjs|css)$/.test(file)) continue
      const content = readFileSync(join(outDir, 'assets', file))
      const small = brotliCompressSync(content, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } })
      if (small.length < content.length * 0.9) writeFileSync(join(outDir, 'assets', file + '.br'), small)
    }
  },
}

// The built console goes where the service embeds it.
export default defineConfig({
  plugins: [vue(), compressed],
  build: { outDir, emptyOutDir: true, chunkSizeWarningLimit: 1500 },
  server: { proxy: { '/api': 'http://127.0.0.1:8427' } },
})
