import type { Recording, Ref } from '@/api/types'

const narrow = '\u202f'

/** 1204 → "1 204", with a narrow space. */
export function whole(n: number): string {
  return String(Math.round(n)).replace(/\B(?=(\d{3})+(?!\d))/g, narrow)
}

/** Rounded for reading: 1204 → "1.2 k". */
export function rounded(n: number): string {
  if (n < 10_000) return whole(n)
  if (n < 1_000_000) return `${three(n / 1000)}${narrow}k`
  return `${three(n / 1_000_000)}${narrow}M`
}

function three(n: number): string {
  return String(Number(n.toPrecision(3)))
}

/** "1 scope", "3 scopes". */
export function count(n: number, one: string, many: string): string {
  return n === 1 ? `1 ${one}` : `${whole(n)} ${many}`
}

/** A duration in ns, rounded for reading: "3.4 ms". */
export function took(ns: number): string {
  if (ns < 0) return `−${took(-ns)}`
  if (ns < 1e3) return `${ns}${narrow}ns`
  if (ns < 1e6) return `${three(ns / 1e3)}${narrow}µs`
  if (ns < 1e9) return `${three(ns / 1e6)}${narrow}ms`
  if (ns < 60e9) return `${three(ns / 1e9)}${narrow}s`
  const seconds = Math.round(ns / 1e9)
  if (seconds < 3600) return `${Math.floor(seconds / 60)}${narrow}min ${String(seconds % 60).padStart(2, '0')}${narrow}s`
  return `${Math.floor(seconds / 3600)}${narrow}h ${String(Math.floor((seconds % 3600) / 60)).padStart(2, '0')}${narrow}min`
}

/** A time of the service in local time, to the second. */
export function localTime(text: string): string {
  const time = new Date(text)
  if (Number.isNaN(time.getTime())) return '–'
  const two = (n: number) => String(n).padStart(2, '0')
  return `${time.getFullYear()}-${two(time.getMonth() + 1)}-${two(time.getDate())} ${two(time.getHours())}:${two(time.getMinutes())}:${two(time.getSeconds())}`
}

/** How scopes and instances are named in addresses: behind their stream's number and a dot where that is not the first. */
export function addressOf(stream: number, id: number | string): string {
  return stream ? `${stream}.${id}` : String(id)
}

/** The service with its key, as titles have it. */
export function nameOf(ref: Ref): string {
  return ref.key === null || ref.key === undefined ? ref.service : `${ref.service} [${ref.key}]`
}

/** Shortens a name in the middle: its ends matter most. */
export function shorten(text: string, width: number): string {
  if (text.length <= width) return text
  const tail = Math.floor(((width - 1) * 2) / 3)
  return text.slice(0, width - 1 - tail) + '…' + text.slice(text.length - tail)
}

/** What is missing of a recording, in a few words. */
export function healthOf(health: Recording['health']): string {
  if (health.whole) return 'complete'
  const parts: string[] = []
  if (health.refused) parts.push(count(health.refused, 'line refused', 'lines refused'))
  if (health.unknown_kinds) parts.push(count(health.unknown_kinds, 'event of unknown kind', 'events of unknown kinds'))
  if (health.unresolved) parts.push(count(health.unresolved, 'line unresolved', 'lines unresolved'))
  if (health.lost) parts.push(count(health.lost, 'event lost', 'events lost'))
  if (health.cut_off) parts.push(count(health.cut_off, 'stream cut off', 'streams cut off'))
  if (health.broken) parts.push(count(health.broken, 'stream not analysed', 'streams not analysed'))
  if (health.names_over) parts.push('too many different names')
  if (health.abandoned) parts.push(count(health.abandoned, 'search for the keepers of an instance given up at its bound', 'searches for the keepers of an instance given up at their bound'))
  if (health.flattened) parts.push(count(health.flattened, 'scope nested too deeply', 'scopes nested too deeply'))
  if (health.sampled < 1) parts.push(`${Math.round(100 * health.sampled)}${narrow}% of scopes recorded`)
  return parts.join(', ')
}
