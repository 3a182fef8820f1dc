import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Nothing inlined, so that the page's policy can forbid data: addresses.
  build: {
    target: 'es2022',
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    rollupOptions: { input: ['index.html', 'handset.html'] },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:18180', '/handset/v1': 'http://127.0.0.1:18180' } },
})
