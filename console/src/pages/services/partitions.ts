import type { ServiceList } from '@/api/types'

/** The letter that stands for the n-th service: A to Z, then A2 and on. */
export function letterOf(n: number): string {
  const letter = String.fromCharCode(65 + (n % 26))
  return n < 26 ? letter : `${letter}${Math.floor(n / 26) + 1}`
}

/** Growing numbers as ranges, such as 0–3, 7. */
export function ranges(list: readonly number[]): string {
  const parts: string[] = []
  for (let n = 0; n < list.length; n++) {
    const first = list[n] ?? 0
    let last = first
    while (list[n + 1] === last + 1) {
      last++
      n++
    }
    parts.push(first === last ? `${first}` : `${first}–${last}`)
  }
  return parts.join(', ')
}

/** For each partition, which service works on it by its place in the list; -1 where none does. */
export function holders(list: ServiceList): number[] {
  const of = new Array<number>(list.partitions).fill(-1)
  list.services.forEach((s, n) => s.partitions.forEach((p) => (of[p] = n)))
  return of
}
