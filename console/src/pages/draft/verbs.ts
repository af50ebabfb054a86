// What an edit may do besides setting a value, and the keys of each.
export interface Field {
  key: string
  words: string
  lines?: boolean // a text of several lines
  needed?: boolean
}

const place: Field[] = [
  { key: 'into', words: 'into the block (empty: the whole file)' },
  { key: 'above', words: 'or above' },
  { key: 'below', words: 'or below' },
]
const region: Field = { key: 'through', words: 'through (where a region ends)' }
const rights: Field[] = [
  { key: 'mode', words: 'mode, such as 0640' },
  { key: 'owner', words: 'owner' },
  { key: 'group', words: 'group' },
]

export const verbs: { [verb: string]: { words: string; fields: Field[] } } = {
  insert: { words: 'insert a block or lines', fields: [{ key: 'insert', words: 'text, in the syntax of the file', lines: true, needed: true }, ...place, { key: 'instead-of', words: 'or instead of' }, region] },
  remove: { words: 'remove an entry or block', fields: [{ key: 'remove', words: 'what is removed', needed: true }, region] },
  'comment-out': { words: 'comment out', fields: [{ key: 'comment-out', words: 'what is commented out', needed: true }, region] },
  uncomment: { words: 'uncomment', fields: [{ key: 'uncomment', words: 'what is put into force again', needed: true }] },
  add: { words: 'add to a list', fields: [{ key: 'add', words: 'member', needed: true }, { key: 'to', words: 'to the list', needed: true }, ...place.slice(1)] },
  take: { words: 'take from a list', fields: [{ key: 'take', words: 'member', needed: true }, { key: 'from', words: 'from the list', needed: true }] },
  replace: { words: 'replace exact text', fields: [{ key: 'replace', words: 'text that is there', lines: true, needed: true }, { key: 'with', words: 'with', lines: true }] },
  put: { words: 'put a whole file', fields: [{ key: 'put', words: 'file', needed: true }, { key: 'text', words: 'its text', lines: true, needed: true }, ...rights] },
  delete: { words: 'delete a file', fields: [{ key: 'delete', words: 'file', needed: true }] },
  move: { words: 'move a file, or an entry', fields: [{ key: 'move', words: 'what is moved', needed: true }, { key: 'onto', words: 'onto the file' }, ...place] },
  link: { words: 'make a link', fields: [{ key: 'link', words: 'file that is the link', needed: true }, { key: 'leads-to', words: 'leads to', needed: true }] },
  make: { words: 'make by a command of the definition', fields: [{ key: 'make', words: 'which of its makes', needed: true }] },
  mode: { words: 'mode and owner', fields: [{ key: 'file', words: 'file', needed: true }, ...rights] },
}

// verbOf names what an edit does; "set" of one that sets a value.
export function verbOf(edit: unknown): string {
  if (!edit || typeof edit !== 'object') return ''
  if ('set' in edit) return 'set'
  return Object.keys(verbs).find((v) => v !== 'mode' && v in edit) ?? (['mode', 'owner', 'group'].some((k) => k in edit) ? 'mode' : '')
}
