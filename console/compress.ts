import { readdir, readFile, writeFile } from 'node:fs/promises'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { brotliCompress, constants, gzip } from 'node:zlib'
import type { Plugin } from 'vite'

const LEAST = 1000
const TEXTS = /\.(js|css|html|svg|json)$/

/** Lays each text that was built down once more, in Brotli (RFC 7932) and gzip (RFC 1952), for browsers that take these. */
export function compressed(): Plugin {
  let folder = ''
  return {
    name: 'compressed',
    apply: 'build',
    configResolved(config) {
      folder = join(config.root, config.build.outDir)
    },
    async closeBundle() {
      for (const one of await readdir(folder, { recursive: true, withFileTypes: true })) {
        if (!one.isFile() || !TEXTS.test(one.name)) continue
        const file = join(one.parentPath, one.name)
        const plain = await readFile(file)
        if (plain.length < LEAST) continue
        const params = { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: plain.length }
        await writeFile(`${file}.br`, await promisify(brotliCompress)(plain, { params }))
        await writeFile(`${file}.gz`, await promisify(gzip)(plain, { level: 9 }))
      }
    },
  }
}
