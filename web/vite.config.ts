import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

// The policy that the console is served under allows files of its own and
// nothing inline, data: addresses included.
export default defineConfig({
  plugins: [vue(), tailwindcss()],
  build: { outDir: '../internal/console/dist', emptyOutDir: false, assetsInlineLimit: 0, chunkSizeWarningLimit: 400 }
})
