// unified gives two texts of some hundred lines as a unified diff: the longest common run of
// lines, three lines around each change.
export function unified(from: string, to: string, before: string, after: string): string {
  const a = before.replace(/\n$/, '').split('\n')
  const b = after.replace(/\n$/, '').split('\n')
  const common = Array.from({ length: a.length + 1 }, () => new Uint32Array(b.length + 1))
  for (let i = a.length - 1; i >= 0; i--) for (let j = b.length - 1; j >= 0; j--) common[i]![j] = a[i] === b[j] ? common[i + 1]![j + 1]! + 1 : Math.max(common[i + 1]![j]!, common[i]![j + 1]!)
  const lines: { sign: string; text: string; a: number; b: number }[] = []
  let [i, j] = [0, 0]
  while (i < a.length || j < b.length) {
    if (i < a.length && j < b.length && a[i] === b[j]) lines.push({ sign: ' ', text: a[i]!, a: i++, b: j++ })
    else if (i < a.length && (j === b.length || common[i + 1]![j]! >= common[i]![j + 1]!)) lines.push({ sign: '-', text: a[i]!, a: i++, b: j })
    else lines.push({ sign: '+', text: b[j]!, a: i, b: j++ })
  }
  const near = lines.map((_, k) => lines.slice(Math.max(0, k - 3), k + 4).some((l) => l.sign !== ' '))
  const out = [`--- ${from}`, `+++ ${to}`]
  lines.forEach((l, k) => {
    if (!near[k]) return
    if (!near[k - 1]) {
      let end = k
      while (near[end]) end++
      const hunk = lines.slice(k, end)
      out.push(`@@ -${l.a + 1},${hunk.filter((h) => h.sign !== '+').length} +${l.b + 1},${hunk.filter((h) => h.sign !== '-').length} @@`)
    }
    out.push(l.sign + l.text)
  })
  return out.join('\n')
}
