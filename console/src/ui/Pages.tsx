interface Way {
  words: string
  go: () => void
}

// Pages leads back to the first page of a list, and to the next one, where there is one.
export function Pages({ first, next }: { first: Way | false; next: Way | false }) {
  return (
    <p className="pages">
      {[first, next].map(
        (way) =>
          way && (
            <button key={way.words} type="button" className="plain-button" onClick={way.go}>
              {way.words}
            </button>
          ),
      )}
    </p>
  )
}
