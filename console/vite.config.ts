import vue from '@vitejs/plugin-vue'
import vuetify from 'vite-plugin-vuetify'
import { defineConfig } from 'vitest/config'

// The service replaces the nonce in every answer; see crates/management/src/console.rs.
export default defineConfig({
  base: '/console/',
  plugins: [vue(), vuetify({ autoImport: true })],
  html: { cspNonce: 'passeur-nonce-goes-here' },
  build: { target: 'es2022', assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  test: { environment: 'happy-dom', server: { deps: { inline: ['vuetify'] } } },
})
