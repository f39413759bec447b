import type { Asker, RegistrationRow } from '@/api/types'
import { nameOf } from '@/format'

/** The first two consumers, each once. */
export function firstAskers(list: Asker[]): Asker[] {
  const name = (a: Asker) => (a.consumer ? nameOf(a.consumer) : a.entry)
  return list.filter((a, n) => list.findIndex((b) => name(b) === name(a)) === n).slice(0, 2)
}

/** What a registration asks for, by name in the form that is shown, and how. */
export function namesOf(needs: RegistrationRow['needs'], type: (name: string) => string): string {
  return needs
    .map((n) => {
      const how = [n.how === 'constructor' ? '' : n.how, n.all ? 'all' : '', n.optional ? 'optional' : '', n.lazy ? 'lazy' : ''].filter(Boolean)
      return type(n.service) + (n.key === null || n.key === undefined ? '' : ` [${n.key}]`) + (how.length ? ` (${how.join(', ')})` : '')
    })
    .join(', ')
}
