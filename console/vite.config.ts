import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import { compressed } from './compress'

export default defineConfig({
  plugins: [vue(), compressed()],
  build: { outDir: '../src/oak_relay/service/web', emptyOutDir: true, chunkSizeWarningLimit: 900, modulePreload: { polyfill: false } },
  css: { preprocessorOptions: { scss: { quietDeps: true, silenceDeprecations: ['import', 'global-builtin', 'color-functions', 'if-function'] } } },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
