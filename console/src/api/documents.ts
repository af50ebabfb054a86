const found = import.meta.glob<string>(['../../../docs/*.md', '!../../../docs/licences.md'], { query: '?raw', import: 'default' })

// documents are the pieces of the documentation, by name; each is loaded when it is opened.
export const documents: { [name: string]: (() => Promise<string>) | undefined } = Object.fromEntries(Object.entries(found).map(([path, load]) => [path.replace(/^.*\/|\.md$/g, ''), load]))
