import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  // The placeholder stays, so that Go builds without Node.
  build: { outDir: 'dist', emptyOutDir: false, assetsInlineLimit: 0, target: 'es2022', chunkSizeWarningLimit: 700 },
  resolve: { alias: { '@': new URL('./src', import.meta.url).pathname } },
  server: { proxy: { '/api': 'http://127.0.0.1:7460' } },
})
