// Numbered is a text with the numbers of its lines.
export function Numbered({ text, label }: { text: string; label: string }) {
  return (
    <pre className="file" tabIndex={0} aria-label={label}>
      {text.replace(/\n$/, '').split('\n').map((line, i) => (
        <div key={i}>
          <span className="number">{i + 1}</span>
          <span>{line}</span>
        </div>
      ))}
    </pre>
  )
}
