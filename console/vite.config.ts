import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: {
    emptyOutDir: true,
    rolldownOptions: {
      checks: { pluginTimings: false },
      input: { index: 'index.html', logic: 'src/logic.ts' },
      preserveEntrySignatures: 'strict',
      output: { entryFileNames: (chunk) => (chunk.name === 'logic' ? 'assets/logic.js' : 'assets/[name]-[hash].js') },
    },
  },
  css: {
    preprocessorOptions: { scss: { quietDeps: true, silenceDeprecations: ['import', 'global-builtin', 'color-functions', 'if-function'] } },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8470', '/access': 'http://127.0.0.1:8470' } },
})
