import type { ReactNode, Ref } from 'react'

// Table is rows under heads; a head that ends in a star is left out, with its cells, in a narrow window.
export function Table({ heads, children, body }: { heads: ReactNode[]; children: ReactNode; body?: Ref<HTMLTableSectionElement> }) {
  return (
    <div className="scrolls">
      <table className="list">
        <thead>
          <tr>
            {heads.map((head, i) => {
              const wide = typeof head === 'string' && head.endsWith('*')
              return (
                <th key={i} scope="col" className={wide ? 'wide' : undefined}>
                  {wide ? head.slice(0, -1) : head}
                </th>
              )
            })}
          </tr>
        </thead>
        <tbody ref={body}>{children}</tbody>
      </table>
    </div>
  )
}
