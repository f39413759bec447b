import type { KeyRow } from '@/api/types'

export const keyName = (key: string | null) => key ?? 'no key'
export const idOf = (r: KeyRow) => `${r.service}/${keyName(r.key)}`
export const bad = (r: KeyRow) => r.state === 'missing' || r.state === 'answered by another key'
