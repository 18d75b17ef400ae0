import { defineConfig } from 'vite'
import { compressed } from './compress'

/** The page on which people talk: small, and nothing of the console. */
export default defineConfig({
  root: 'talk',
  base: '/talk/',
  plugins: [compressed()],
  build: { outDir: '../../src/oak_relay/service/web/talk', emptyOutDir: true, modulePreload: { polyfill: false } },
})
