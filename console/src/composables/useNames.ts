import { computed, inject, provide, ref, watch, type InjectionKey } from 'vue'

import type { Ref } from '@/api/types'
import { ShortNames } from '@/names'

/** How the pages of a recording show names: short, unless asked for in full. */
export interface Names {
  /** Takes note of every name in an answer of the service. */
  learn: (answer: unknown) => void
  /** The form of a type's name that is shown. */
  type: (name: string) => string
  /** The form of a registration's name, with its key. */
  of: (of: Ref) => string
  /** What is left out of the names that were seen. */
  leftOut: () => string[]
  inFull: { value: boolean }
}

const key: InjectionKey<Names> = Symbol('names')
const remembered = 'names in full'

function make(): Names {
  const short = new ShortNames()
  const seen = ref(0)
  const inFull = ref(localStorage.getItem(remembered) === 'yes')
  watch(inFull, (full) => localStorage.setItem(remembered, full ? 'yes' : 'no'))
  const type = (name: string) => {
    if (inFull.value) return name
    return seen.value >= 0 ? short.of(name) : name // asking for seen has it shown anew when names are added
  }
  return {
    learn(answer) {
      walk(answer, (name) => short.add(name))
      seen.value = short.size
    },
    type,
    of: (of) => (of.key === null || of.key === undefined ? type(of.service) : `${type(of.service)} [${of.key}]`),
    leftOut: () => (seen.value >= 0 ? short.leftOut() : []),
    inFull,
  }
}

/** Calls found with each name of a type in an answer: services, implementations and paths. */
function walk(value: unknown, found: (name: string) => void): void {
  if (Array.isArray(value)) {
    for (const part of value) walk(part, found)
    return
  }
  if (!value || typeof value !== 'object') return
  for (const [field, part] of Object.entries(value)) {
    if ((field === 'service' || field === 'implementation') && typeof part === 'string') found(part)
    else if (field === 'path' && Array.isArray(part)) part.forEach((p) => (typeof p === 'string' ? found(p) : walk(p, found)))
    else if (typeof part === 'object') walk(part, found)
  }
}

/** The names of the recording with this id, for the pages within. */
export function provideNames(recording: () => string): Names {
  const all = computed(() => (recording(), make()))
  const names: Names = {
    learn: (answer) => all.value.learn(answer),
    type: (name) => all.value.type(name),
    of: (of) => all.value.of(of),
    leftOut: () => all.value.leftOut(),
    inFull: {
      get value() {
        return all.value.inFull.value
      },
      set value(full) {
        all.value.inFull.value = full
      },
    },
  }
  provide(key, names)
  return names
}

const plain: Names = {
  learn: () => undefined,
  type: (name) => name,
  of: (of) => (of.key === null || of.key === undefined ? of.service : `${of.service} [${of.key}]`),
  leftOut: () => [],
  inFull: { value: true },
}

/** The names of the recording whose page this is; outside of one, names are shown in full. */
export const useNames = (): Names => inject(key, plain)
