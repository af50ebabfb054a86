import type { Draft } from './useDraft'

// problemsOf gives what the server finds wrong under some keys of the change.
export function problemsOf(draft: Draft, ...keys: string[]): string[] {
  return draft.problems.filter((p) => keys.some((k) => p.text.startsWith(`${k}:`))).map((p) => p.text)
}
