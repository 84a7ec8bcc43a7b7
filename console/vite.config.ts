import react from '@vitejs/plugin-react'
import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync } from 'node:zlib'
import { defineConfig, type Plugin } from 'vite'

// What every page needs, in one file: that is smaller than many. Other components of MUI come with the pages that show
// them.
const base = new RegExp(
  'node_modules/((react|react-dom|scheduler|react-router|react-is|clsx|stylis|openapi-fetch|hoist-non-react-statics' +
    '|@emotion|@babel/runtime|@tanstack/(query-core|react-query))/' +
    '|@mui/(system|utils|styled-engine|private-theming)/' +
    '|@mui/material/(styles|colors|utils|transitions|internal/svg-icons' +
    '|Alert|AlertTitle|AppBar|Box|Button|ButtonBase|ButtonGroup|CircularProgress|CssBaseline|IconButton|Link|Paper' +
    '|Skeleton|SvgIcon|Toolbar|Typography)/)',
)

// brotli writes the compressed form of each file beside it; browsers accept Brotli over HTTPS.
function brotli(): Plugin {
  return {
    name: 'brotli',
    apply: 'build',
    writeBundle({ dir = '' }, files) {
      for (const name of Object.keys(files)) {
        if (!/\.(html|js|css|svg)$/.test(name)) continue
        writeFileSync(join(dir, `${name}.br`), brotliCompressSync(readFileSync(join(dir, name))))
      }
    },
  }
}

export default defineConfig({
  plugins: [react(), brotli()],
  build: {
    emptyOutDir: false,
    chunkSizeWarningLimit: 700,
    assetsInlineLimit: 0, // the policy of the service lets no font come from within a sheet
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: 'base', test: base }] } } },
  },
})
