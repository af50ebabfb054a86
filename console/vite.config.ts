import react from '@vitejs/plugin-react'
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { gzipSync } from 'node:zlib'
import { defineConfig, type Plugin } from 'vite'

// The server sends files from its binary as they are, so what shrinks is
// packed here, once.
function packed(): Plugin {
  return {
    name: 'packed',
    apply: 'build',
    closeBundle() {
      for (const name of readdirSync('dist/assets')) {
        const path = join('dist/assets', name)
        if (/\.(js|css)$/.test(name)) writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: 9 }))
      }
      writeFileSync('dist/.keep', '')
    },
  }
}

export default defineConfig({
  plugins: [react(), packed()],
  build: { chunkSizeWarningLimit: 2000 },
  server: { proxy: { '/api': 'http://127.0.0.1:8480' } },
})
