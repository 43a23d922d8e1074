// Writes what the console needs of the contract's types: its records, and for each operation what
// its path, its query and its body hold and what it answers with. openapi-typescript's own output
// says the same in four times as many lines.
import { readFileSync, writeFileSync } from 'node:fs'
import ts from 'typescript'

const file = process.argv[2]
const source = ts.createSourceFile(file, readFileSync(file, 'utf8'), ts.ScriptTarget.Latest, true)
const whole = (name) => source.statements.find((s) => ts.isInterfaceDeclaration(s) && s.name.text === name)
const nameOf = (member) => member.name.text
const within = (type, name) => type?.members?.find((m) => m.name && nameOf(m) === name)
const into = (type, ...names) => names.reduce((t, n) => within(t, n)?.type, type)

/** What is said of a field in the contract, in one line; the formats and lists that its type tells are left out. */
function said(member) {
  const text = (ts.getJSDocCommentsAndTags(member)[0]?.getText() ?? '').replace(/^\/\*\*|\*\/$/g, '')
  const line = text
    .split('\n')
    .map((l) => l.replace(/^\s*\*?\s?/, '').trim())
    .filter((l) => !/^(Format:|@enum|@default|@constant)/.test(l))
    .join(' ')
    .replace('@description ', '')
    .trim()
  return line ? `/** ${line} */ ` : ''
}

/** Fields line by line: those of which nothing is said stand together, as many as fit. */
function rows(fields, indent) {
  const out = []
  let open = false // the last line takes more
  for (const f of fields) {
    const plain = !f.startsWith('/**') && !f.includes('\n')
    if (plain && open && out.at(-1).length + f.length < 130) out[out.length - 1] += `; ${f}`
    else out.push(f)
    open = plain
  }
  return out.map((line) => `${indent}  ${line}\n`).join('')
}

/** A type as it is written into the file: short ones of fields alone in one line. */
function written(type, indent = '  ') {
  if (ts.isTypeLiteralNode(type)) {
    const fields = type.members.map((m) => {
      if (ts.isIndexSignatureDeclaration(m)) return `[key: string]: ${written(m.type, indent + '  ')}`
      return `${said(m)}${m.name.getText()}${m.questionToken ? '?' : ''}: ${written(m.type, indent + '  ')}`
    })
    const line = `{ ${fields.join('; ')} }`
    if (fields.length === 0) return '{}'
    return line.length <= 240 && !line.includes('\n') ? line : `{\n${rows(fields, indent)}${indent}}`
  }
  if (ts.isArrayTypeNode(type)) return `${written(type.elementType, indent)}[]`
  if (ts.isParenthesizedTypeNode(type)) return `(${written(type.type, indent)})`
  if (ts.isUnionTypeNode(type)) return type.types.map((t) => written(t, indent)).join(' | ')
  if (ts.isIntersectionTypeNode(type)) return type.types.map((t) => written(t, indent)).join(' & ')
  if (ts.isIndexedAccessTypeNode(type)) {
    const parts = [...type.getText().matchAll(/\["(.*?)"\]/g)].map((m) => m[1])
    if (parts[0] === 'schemas') return `Schemas['${parts[1]}']`
    return written(into(components, ...parts), indent)
  }
  return type.getText().replace(/"/g, "'")
}

const components = { members: whole('components').members }
const records = into(components, 'schemas').members.map((m) => `  ${said(m)}${nameOf(m)}: ${written(m.type)}\n`)

/** What an operation takes and answers with, but for what every request has: headers, and the draft that a link names. */
function operation(type) {
  const out = []
  const given = (kind) => into(type, 'parameters', kind)?.members?.filter((m) => kind === 'path' || nameOf(m) !== 'draft') ?? []
  for (const kind of ['path', 'query']) {
    const fields = given(kind).map((m) => `${m.name.getText().replace(/"/g, "'")}${m.questionToken ? '?' : ''}: ${written(m.type, '    ')}`)
    if (fields.length > 0)
      out.push(`${kind}${kind === 'path' || fields.some((f) => !/^[^:]*\?:/.test(f)) ? '' : '?'}: { ${fields.join('; ')} }`)
  }
  const body = within(type, 'requestBody')
  const content = into(type, 'requestBody', 'content')
  if (content) {
    const kinds = content.members.map(nameOf)
    const json = kinds.find((k) => k.endsWith('json') && !k.includes('nd'))
    const record = json && written(into(content, json), '    ')
    out.push(`body${body.questionToken ? '?' : ''}: ${json?.includes('merge-patch') ? `Patch<${record}>` : (record ?? 'string')}`)
    if (!json) out.push(`type: ${kinds.map((k) => `'${k}'`).join(' | ')}`)
  }
  const answers = new Set()
  for (const r of into(type, 'responses').members) {
    if (!/^2/.test(nameOf(r))) continue
    const content = into(r.type, 'content')
    if (!content?.members) answers.add('undefined')
    else for (const c of content.members) answers.add(nameOf(c) === 'application/json' ? written(c.type, '    ') : 'string')
  }
  const known = [...answers].filter((a) => a !== 'string')
  out.push(`answer: ${(known.length > 0 ? known : [...answers]).join(' | ') || 'undefined'}`)
  const line = `{ ${out.join('; ')} }`
  return line.includes('\n') || line.length > 400 ? `{\n${out.map((o) => `    ${o}\n`).join('')}  }` : line
}

const called = []
for (const path of whole('paths').members) {
  for (const m of path.type.members) {
    if (nameOf(m) === 'parameters' || !ts.isIndexedAccessTypeNode(m.type)) continue
    const id = m.type.indexType.literal.text
    called.push(`  ${said(m)}'${nameOf(m).toUpperCase()} ${nameOf(path)}': ${operation(within(whole('operations'), id).type)}\n`)
  }
}

writeFileSync(
  file,
  `// Written from the contract (openapi-typescript, contract.mjs); make generate writes it anew.

/** The records of the contract. */
export interface Schemas {
${records.join('')}}

/** Some fields of a record: null takes one away, those that are not named stay (RFC 7396). */
export type Patch<T> = T extends unknown[] ? T : T extends object ? { [F in keyof T]?: Patch<T[F]> | null } : T

/** What each operation takes and answers with. */
export interface Operations {
${called.join('')}}
`,
)
