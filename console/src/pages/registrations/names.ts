import type { Asker, RegistrationRow } from '@/api/types'
import { nameOf } from '@/format'

/** The first two who ask, and how many more there are. */
export function askedBy(list: Asker[]): string {
  const names = [...new Set(list.map((a) => (a.consumer ? nameOf(a.consumer) : a.entry || 'nobody known')))]
  if (!names.length) return 'nobody'
  return names.slice(0, 2).join(', ') + (names.length > 2 ? ` and ${names.length - 2} more` : '')
}

/** What a registration asks for, by name and how. */
export function namesOf(needs: RegistrationRow['needs']): string {
  return needs
    .map((n) => n.service + (n.key === null || n.key === undefined ? '' : ` [${n.key}]`) + ([n.all ? 'all' : '', n.optional ? 'optional' : '', n.lazy ? 'later' : ''].filter(Boolean).length ? ` (${[n.all ? 'all' : '', n.optional ? 'optional' : '', n.lazy ? 'later' : ''].filter(Boolean).join(', ')})` : ''))
    .join(', ')
}
