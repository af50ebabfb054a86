import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete'
import type { Schemas, ServiceParts } from '../../api/client'

// What is known for whoever writes: the words of expressions, and of a change's YAML.
export interface Known {
  labels: Schemas['Label'][]
  parts?: ServiceParts
  services: string[]
  secrets: string[]
  keys: { [at: string]: string[] | undefined }
}

const hostWords: Completion[] = [
  { label: 'name', detail: 'of the host' },
  { label: 'labels', detail: 'labels.role == "…"' },
  { label: 'cores', detail: 'number' },
  { label: 'memory', detail: 'in bytes' },
  { label: 'os', detail: 'such as debian' },
  { label: 'os_version', detail: 'text' },
  { label: 'family', detail: 'of distributions' },
  { label: 'arch', detail: 'text' },
  { label: 'units', detail: 'that are loaded' },
  { label: 'packages', detail: 'their versions' },
  { label: 'atLeast(', detail: 'atLeast(packages.nginx, "1.25")' },
  { label: 'amount(', detail: 'amount("16M")' },
  { label: 'min(', detail: 'min(a, b)' },
  { label: 'max(', detail: 'max(a, b)' },
  { label: 'startsWith(', detail: 'name.startsWith("…")' },
  { label: 'endsWith(', detail: 'name.endsWith("…")' },
  { label: 'contains(', detail: 'text.contains("…")' },
]

const editWords: Completion[] = [
  { label: 'present', detail: 'present.main["address"]: what is there' },
  { label: 'values', detail: 'values.name of the change' },
  { label: 'instance', detail: 'of the service' },
]

// inExpression offers what may stand next in an expression: labels and their values, where one is
// named, else variables and functions.
export function inExpression(before: string, known: Known, edits: boolean): { from: number; options: Completion[] } | null {
  const value = /labels(?:\.([\w-]+)|\["([^"]+)"\])\s*(?:==|!=)\s*"([^"]*)$/.exec(before)
  if (value) {
    const label = known.labels.find((l) => l.name === (value[1] ?? value[2]))
    return label ? { from: before.length - (value[3] ?? '').length, options: label.values.map((v) => ({ label: v.value, detail: v.hosts === 1 ? '1 host' : `${v.hosts} hosts` })) } : null
  }
  const label = /labels\.([\w-]*)$/.exec(before)
  if (label) return { from: before.length - (label[1] ?? '').length, options: known.labels.map((l) => ({ label: l.name, detail: l.values.slice(0, 3).map((v) => v.value).join(', ') })) }
  const word = /[A-Za-z_]+$/.exec(before)
  if (/"[^"]*$/.test(before.replace(/"[^"]*"/g, ''))) return null
  return { from: before.length - (word?.[0].length ?? 0), options: edits ? [...hostWords, ...editWords] : hostWords }
}

// inYAML offers what may stand next in the text of a change.
export function inYAML(context: CompletionContext, known: Known): CompletionResult | null {
  const line = context.state.doc.lineAt(context.pos)
  const before = line.text.slice(0, context.pos - line.from)
  const at = (offset: number, options: Completion[]): CompletionResult => ({ from: line.from + offset, options, validFor: /^[\w./[\]-]*$/ })
  const entry = /(?:^|[\s{,-])(where|may-fail|compute|by): *(['"]?)(.*)$/.exec(before)
  if (entry) {
    const text = entry[3] ?? ''
    const found = inExpression(text, known, entry[1] !== 'may-fail')
    return found && { from: context.pos - text.length + found.from, options: found.options }
  }
  const given = /(?:^|[\s{,-])(service|set|remove|comment-out|uncomment|secret|file|put|delete): *['"]?([^\s,}]*)$/.exec(before)
  if (given) {
    const from = before.length - (given[2] ?? '').length
    switch (given[1]) {
      case 'service':
        return at(from, known.services.map((label) => ({ label })))
      case 'secret':
        return at(from, known.secrets.map((label) => ({ label })))
      case 'file':
      case 'put':
      case 'delete':
        return at(from, (known.parts?.files ?? []).map((f) => ({ label: f.key })))
    }
    return at(from, (known.parts?.settings ?? []).map((s) => ({ label: s.address, detail: s.type, info: s.explanation })))
  }
  const key = /(?:^\s*|[{,]\s*|-\s+)([\w-]*)$/.exec(before)
  if (!key || (!context.explicit && key[1] === '')) return null
  const word = key[1] ?? ''
  return at(before.length - word.length, (known.keys[within(context.state.doc.sliceString(0, line.from), before)] ?? []).map((label) => ({ label, apply: `${label}: ` })))
}

// within names the mapping that a line stands in, by the keys that lead to it.
function within(above: string, line: string): string {
  const path: string[] = []
  let indent = /^\s*/.exec(line)?.[0].length ?? 0
  const open = line.lastIndexOf('{') > line.lastIndexOf('}') && !/^\s*-\s*\{/.test(line) ? /([\w-]+): *\[?[^{]*\{[^{]*$/.exec(line)?.[1] : undefined
  if (/^\s*-/.test(line) && indent === 0) indent = 1 // a list may stand at its key's own indent
  for (const text of above.split('\n').reverse()) {
    const found = /^(\s*)(?:- +)?([\w_-]+):/.exec(text)
    if (!found || indent === 0) continue
    const its = (found[1] ?? '').length
    if (its < indent && !/^\s*- /.test(text) ) {
      path.unshift(found[2] ?? '')
      indent = its
    }
  }
  return [...path, ...(open ? [open] : [])].join('/')
}
