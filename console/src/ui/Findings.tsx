import type { Finding } from '../api/client'

// Findings lists what speaks against something, with where it stands.
export function Findings({ findings }: { findings: Finding[] }) {
  if (findings.length === 0) return null
  return (
    <ul className="findings">
      {findings.map((f, i) => (
        <li className={`finding ${f.level}`} key={i}>
          <b>{f.level}</b>
          <span className="wrap">
            {f.file && <span className="mono">{f.line ? `${f.file}:${f.line}` : f.file}: </span>}
            {f.text}
          </span>
        </li>
      ))}
    </ul>
  )
}
