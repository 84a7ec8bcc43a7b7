import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: {
    emptyOutDir: false,
    chunkSizeWarningLimit: 700,
    assetsInlineLimit: 0, // the policy of the service lets no font come from within a sheet
  },
})
