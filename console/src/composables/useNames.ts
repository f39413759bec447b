import { inject, provide, ref, watch, type InjectionKey, type Ref as Reactive } from 'vue'

import type { Ref } from '@/api/types'
import { nameOf } from '@/format'
import { ShortNames } from '@/names'

/** How the pages of a recording show names: short, unless asked for in full. */
export interface Names {
  /** Takes note of every name in an answer of the service. */
  learn: (answer: unknown) => void
  /** The form of a type's name that is shown. */
  type: (name: string) => string
  /** The form of a registration's name, with its key. */
  of: (of: Ref) => string
  /** The form of a place in the source. */
  place: (at: string) => string
  /** A sentence with its names and places in their forms. */
  prose: (text: string) => string
  /** What is left out of the names that were seen. */
  leftOut: () => string[]
  inFull: Reactive<boolean>
}

const key: InjectionKey<Names> = Symbol('names')
const remembered = 'names in full'

/** Takes note of each name in an answer: services, implementations and paths, places, and what sentences name. */
function walk(value: unknown, short: ShortNames): void {
  if (Array.isArray(value)) {
    for (const part of value) walk(part, short)
    return
  }
  if (!value || typeof value !== 'object') return
  for (const [field, part] of Object.entries(value)) {
    if (typeof part === 'string') {
      if (field === 'service' || field === 'implementation') short.add(part)
      else if (field === 'at' && /[/\\]/.test(part)) short.addPlace(part)
      else if (field === 'title' || field === 'why' || field === 'fix') short.addProse(part)
    } else if (field === 'path' && Array.isArray(part)) part.forEach((p) => (typeof p === 'string' ? short.add(p) : walk(p, short)))
    else if (typeof part === 'object') walk(part, short)
  }
}

/** The names of the recording with this id, for the pages within. */
export function provideNames(recording: () => string): Names {
  let short = new ShortNames()
  const seen = ref(0) // asking for it has names shown again when others are added
  const inFull = ref(localStorage.getItem(remembered) === 'yes')
  watch(inFull, (full) => localStorage.setItem(remembered, full ? 'yes' : 'no'))
  watch(recording, () => {
    short = new ShortNames()
    seen.value = 0
  }, { flush: 'sync' }) // before the pages ask for the names of the other recording
  const type = (name: string) => (inFull.value || !seen.value ? name : short.of(name))
  const names: Names = {
    learn(answer) {
      walk(answer, short)
      seen.value = short.size
    },
    type,
    of: (of) => nameOf({ ...of, service: type(of.service) }),
    place: (at) => (inFull.value || !seen.value ? at : short.place(at)),
    prose: (text) => (inFull.value || !seen.value ? text : short.prose(text)),
    leftOut: () => (seen.value ? short.leftOut() : []),
    inFull,
  }
  provide(key, names)
  return names
}

/** Outside of a recording names are shown in full. */
const plain: Names = { learn: () => undefined, type: (name) => name, of: nameOf, place: (at) => at, prose: (text) => text, leftOut: () => [], inFull: ref(true) }

/** The names of the recording whose page this is. */
export const useNames = (): Names => inject(key, plain)
