import type { Finding, Grouping } from '@/api/types'

/** What findings can be grouped by, the usual one first. */
export const groupings: { title: string; value: Grouping }[] = [
  { title: 'by cause', value: 'cause' },
  { title: 'by registration', value: 'registration' },
  { title: 'by source file', value: 'place' },
  { title: 'by rule', value: 'rule' },
  { title: 'by name of scope', value: 'scope' },
]

/** The places in the source that a finding names: of what holds or asks, and of what it is about. */
export function placesOf(finding: Finding): string[] {
  return [...new Set([finding.holder?.at, finding.subject.at].filter((at): at is string => !!at))]
}

/** How often a finding was seen, by the first of its figures that says so. */
export function seenOf(finding: Finding): number {
  for (const figure of ['instances', 'scopes', 'failures', 'alive', 'fills', 'makes', 'registrations']) {
    const n = finding.counts[figure]
    if (n) return n
  }
  return 0
}
