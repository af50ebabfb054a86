import { lazy } from 'react'
import { inExpression, type Known } from './completion'

const CodeEditor = lazy(() => import('./CodeEditor'))

// Expression is a line in which variables, functions, labels and their values are completed.
export function Expression({ label, value, onValue, known, edits, hint }: { label: string; value: string; onValue: (value: string) => void; known: Known; edits?: boolean; hint?: string }) {
  return (
    <div className="labelled wide">
      <span aria-hidden="true">{label}</span>
      <CodeEditor
        line
        label={label}
        text={value}
        onText={onValue}
        hint={hint}
        complete={(context) => {
          const found = inExpression(context.state.doc.sliceString(0, context.pos), known, edits ?? false)
          return found && (context.explicit || found.from < context.pos || /["."]$/.test(context.state.doc.sliceString(0, context.pos))) ? { ...found, validFor: /^[\w-]*$/ } : null
        }}
      />
    </div>
  )
}
