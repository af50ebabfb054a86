import { acceptCompletion, autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { history, historyKeymap, defaultKeymap } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics } from '@codemirror/lint'
import { EditorState, type Extension } from '@codemirror/state'
import { EditorView, keymap, lineNumbers, placeholder as emptyText } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { useEffect, useRef } from 'react'

const looks = EditorView.theme({
  '&': { backgroundColor: 'var(--raised)', color: 'var(--ink)', border: '1px solid var(--line)', fontSize: '13px' },
  '&.cm-focused': { outline: '2px solid var(--spruce)', outlineOffset: '1px' },
  '.cm-content': { fontFamily: "'IBM Plex Mono', monospace", caretColor: 'var(--ink)', padding: '6px 0' },
  '.cm-scroller': { lineHeight: '20px' },
  '.cm-gutters': { backgroundColor: 'var(--raised)', color: 'var(--second)', borderRight: '1px solid var(--line)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': { backgroundColor: 'var(--line) !important' },
  '.cm-tooltip': { backgroundColor: 'var(--raised)', color: 'var(--ink)', border: '1px solid var(--line)' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]': { backgroundColor: 'var(--spruce)', color: 'var(--raised)' },
  '.cm-completionDetail': { color: 'inherit', marginLeft: '12px' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--brick)' },
  '.cm-lint-marker-error': { content: 'normal', width: '0', height: '0', margin: '4px 2px', borderLeft: '9px solid var(--brick)', borderTop: '6px solid transparent', borderBottom: '6px solid transparent' },
  '.cm-placeholder': { color: 'var(--second)' },
})

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: 'var(--spruce)' },
  { tag: tags.comment, color: 'var(--second)' },
])

interface Props {
  label: string
  text: string
  onText: (text: string) => void
  complete: (context: CompletionContext) => CompletionResult | null
  line?: boolean // of one line, an expression; else YAML
  faults?: { line: number; text: string }[]
  hint?: string
}

// CodeEditor is a text that completes what one types, and marks its lines where something is wrong.
export default function CodeEditor({ label, text, onText, complete, line, faults, hint }: Props) {
  const at = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(undefined)
  const told = useRef({ onText, complete })
  useEffect(() => {
    told.current = { onText, complete }
  })
  useEffect(() => {
    if (!at.current) return
    const alone: Extension[] = line ? [EditorState.transactionFilter.of((tr) => (tr.newDoc.lines > 1 ? [] : tr)), EditorView.lineWrapping] : [lineNumbers(), lintGutter(), yaml(), syntaxHighlighting(colours)]
    const made = new EditorView({
      parent: at.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          looks,
          history(),
          keymap.of([{ key: 'Tab', run: acceptCompletion }, ...defaultKeymap, ...historyKeymap]),
          autocompletion({ override: [(context) => told.current.complete(context)], icons: false }),
          EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0', ...(line ? { 'aria-multiline': 'false' } : {}), spellcheck: 'false' }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) told.current.onText(u.state.doc.toString())
          }),
          ...(hint ? [emptyText(hint)] : []),
          ...alone,
        ],
      }),
    })
    view.current = made
    return () => made.destroy()
    // The text goes in below; the editor itself is made once.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label, line, hint])
  useEffect(() => {
    const now = view.current
    if (now && now.state.doc.toString() !== text) now.dispatch({ changes: { from: 0, to: now.state.doc.length, insert: text } })
  }, [text])
  useEffect(() => {
    const now = view.current
    if (!now || line) return
    const doc = now.state.doc
    now.dispatch(
      setDiagnostics(
        now.state,
        (faults ?? []).map((f) => {
          const on = doc.line(Math.max(1, Math.min(doc.lines, f.line || 1)))
          return { from: on.from, to: on.to, severity: 'error', message: f.text }
        }),
      ),
    )
  }, [faults, line])
  return <div ref={at} className={line ? 'code one-line' : 'code'} />
}
