import { isSeq, parseDocument, Scalar, type Document } from 'yaml'

// A change is one text. What the parts of the page say is read off it, and what they set is put into
// it, so that comments and what the parts do not know stay as they are written. All scalars are
// texts, as the server takes them: 0644 and on are not to become a number and a truth.

export type Key = string | number

const out = { lineWidth: 0, flowCollectionPadding: false }

export function read(text: string): Document.Parsed {
  return parseDocument(text, { schema: 'failsafe' })
}

// unreadable says why a text is no YAML at all; empty where it is.
export function unreadable(doc: Document.Parsed, text: string): string {
  const first = doc.errors[0]
  if (!first) return ''
  return `line ${text.slice(0, first.pos[0]).split('\n').length}: ${first.message.split('\n')[0] ?? ''}`
}

// put gives the text with another value under a path of keys; without one, the key is gone.
export function put(text: string, path: Key[], value: unknown): string {
  const doc = read(text)
  if (value === undefined) doc.deleteIn(path)
  else doc.setIn(path, node(doc, value))
  return doc.toString(out)
}

// add gives the text with one more element of the list under a path.
export function add(text: string, path: Key[], value: unknown): string {
  const doc = read(text)
  const list = doc.getIn(path)
  if (isSeq(list)) {
    if (list.items.length === 0) list.flow = false
    list.add(node(doc, value))
  } else doc.setIn(path, doc.createNode([node(doc, value)]))
  return doc.toString(out)
}

// node is a value in YAML: mappings on one line, and what YAML would take for nothing or a truth in
// quotes.
function node(doc: Document, value: unknown): unknown {
  if (typeof value === 'string') {
    const scalar = new Scalar(value)
    if (/^(null|~|true|false)$/i.test(value)) scalar.type = Scalar.QUOTE_SINGLE
    else if (value.includes('\n')) scalar.type = Scalar.BLOCK_LITERAL
    return scalar
  }
  if (value === true) return new Scalar('true')
  return doc.createNode(value, { flow: !JSON.stringify(value).includes('\\n') })
}

// said is what stands under a key, where that is a text.
export function said(from: unknown, key: string): string {
  const value: unknown = from && typeof from === 'object' ? (from as { [key: string]: unknown })[key] : undefined
  return typeof value === 'string' ? value : ''
}

// listed are the elements under a key, where that is a list.
export function listed(from: unknown, key: string): unknown[] {
  const value: unknown = from && typeof from === 'object' ? (from as { [key: string]: unknown })[key] : undefined
  return Array.isArray(value) ? value : []
}

// has tells whether a mapping has a key.
export function has(from: unknown, key: string): boolean {
  return !!from && typeof from === 'object' && key in from
}
