// Writes .br and .gz beside every text file of the build; the service serves whichever the browser takes.
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, constants, gzipSync } from 'node:zlib'

function* files(folder) {
  for (const name of readdirSync(folder)) {
    const path = join(folder, name)
    if (statSync(path).isDirectory()) yield* files(path)
    else yield path
  }
}

for (const path of files('dist')) {
  if (!/\.(js|css|svg)$/.test(path)) continue
  const text = readFileSync(path)
  writeFileSync(`${path}.br`, brotliCompressSync(text, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }))
  writeFileSync(`${path}.gz`, gzipSync(text, { level: 9 }))
}
