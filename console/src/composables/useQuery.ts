import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/**
 * What is chosen on a page is in its address, so that it can be shared and the way back leads through it. Choosing
 * something else leads to the first page of rows again.
 */
export function useQuery() {
  const route = useRoute()
  const router = useRouter()

  function set(changes: Record<string, string | undefined>, how: 'push' | 'replace' = 'push') {
    const query = { ...route.query }
    if (!('page' in changes)) delete query.page
    for (const [name, value] of Object.entries(changes)) {
      if (value === undefined || value === '') delete query[name]
      else query[name] = value
    }
    void router[how]({ query })
  }

  const one = (name: string) => {
    const value = route.query[name]
    return (Array.isArray(value) ? value[0] : value) ?? ''
  }

  /** A text in the address. */
  function text(name: string, usual = '', how: 'push' | 'replace' = 'push'): WritableComputedRef<string> {
    return computed({
      get: () => one(name) || usual,
      set: (value) => set({ [name]: value === usual || value === null ? undefined : value }, how),
    })
  }

  /** One of several in the address; null: none is chosen. */
  function choice(name: string): WritableComputedRef<string | null> {
    return computed({ get: () => one(name) || null, set: (value) => set({ [name]: value ?? undefined }) })
  }

  /** A whole number in the address. */
  function number(name: string, usual: number, how: 'push' | 'replace' = 'push'): WritableComputedRef<number> {
    return computed({
      get: () => (one(name) === '' || Number.isNaN(Number(one(name))) ? usual : Math.trunc(Number(one(name)))),
      set: (value) => set({ [name]: value === usual ? undefined : String(value) }, how),
    })
  }

  /** Yes or no in the address. */
  function flag(name: string): WritableComputedRef<boolean> {
    return computed({ get: () => one(name) === 'true', set: (value) => set({ [name]: value ? 'true' : undefined }) })
  }
  return { set, text, choice, number, flag }
}
