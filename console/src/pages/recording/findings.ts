import { toValue, type MaybeRefOrGetter } from 'vue'

import { api } from '@/api/client'
import type { Finding } from '@/api/types'
import { useFetched } from '@/composables/useFetched'
import { useChanges } from '@/composables/useView'

/** A recording's findings, read again while it changes. What it is itself is read by what stands around all its pages. */
export function useFindings(recording: MaybeRefOrGetter<string>) {
  const fetched = useFetched(
    () => [toValue(recording)],
    async (id: string, signal: AbortSignal) => (await api.view(id, 'findings', {}, signal)).findings,
  )
  useChanges(recording, fetched.refresh)
  return fetched
}

const ranks: Record<string, number> = { error: 3, warning: 2, note: 1 }

/** Whether a finding names something in which a text occurs. */
export function concerns(f: Finding, text: string): boolean {
  const part = text.toLowerCase()
  return !part || [f.subject, f.holder, ...f.path].some((r) => r && [r.service, r.key, r.implementation].some((n) => n?.toLowerCase().includes(part)))
}

/** A finding with what follows from it. */
export interface Cause {
  finding: Finding
  follows: Finding[]
}

/** The findings of at least a severity and of a family, what follows from another one folded in behind it. */
export function foldedCauses(all: Finding[], severity: string, family: string): Cause[] {
  const shown = all.filter(
    (f) => (ranks[f.severity] ?? 0) >= (ranks[severity] ?? 0) && (!family || f.rule.startsWith(family + '/')),
  )
  const there = new Set(shown.map((f) => f.id))
  const root = (f: Finding) => !f.because || f.because === f.id || !there.has(f.because)
  return shown.filter(root).map((finding) => ({ finding, follows: shown.filter((f) => f.because === finding.id && f !== finding) }))
}

/** The families that were found, with how many findings each has. */
export function families(all: Finding[]): { name: string; n: number }[] {
  const n = new Map<string, number>()
  for (const f of all) {
    const name = f.rule.split('/')[0] ?? ''
    n.set(name, (n.get(name) ?? 0) + 1)
  }
  return [...n].map(([name, n]) => ({ name, n })).sort((a, b) => a.name.localeCompare(b.name))
}
