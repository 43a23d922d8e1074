// Keeps of the types that are written from the contract those of its records: the console calls
// operations by their paths, which operations.gen.ts lists.
import { readFileSync, writeFileSync } from 'node:fs'

const file = process.argv[2]
const lines = readFileSync(file, 'utf8').split('\n')
const out = []
let keep = true
for (const line of lines) {
  if (/^export (interface|type) /.test(line)) keep = /^export interface components /.test(line)
  if (keep || /^(\/\*\*| \*)/.test(line) && out.length < 5) out.push(line)
}
writeFileSync(file, out.join('\n').trimEnd() + '\n')
