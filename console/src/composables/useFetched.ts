import { computed, getCurrentScope, onScopeDispose, ref, shallowRef, watch } from 'vue'

import { Problem } from '@/api/client'

/**
 * Fetches again whenever one of the inputs changes, ignores answers that were overtaken, and stops with the scope that
 * called it. While an answer is on its way the last one stays, unless the first input, which says what it is about, has
 * changed.
 */
export function useFetched<I extends readonly unknown[], T>(inputs: () => readonly [...I], fetcher: (...args: [...I, AbortSignal]) => Promise<T>) {
  const data = shallowRef<T>()
  const error = shallowRef<Problem>()
  const loading = ref(false)
  let running: AbortController | undefined

  async function refresh(): Promise<void> {
    running?.abort()
    const mine = (running = new AbortController())
    loading.value = true
    try {
      const answer = await fetcher(...([...inputs(), mine.signal] as unknown as [...I, AbortSignal]))
      if (mine.signal.aborted) return
      data.value = answer
      error.value = undefined
    } catch (caught) {
      if (mine.signal.aborted) return
      error.value = Problem.of(caught)
    } finally {
      if (running === mine) loading.value = false
    }
  }

  // Inputs that are objects are recomputed with every change of an address: only what they hold counts.
  const asked = computed(() => JSON.stringify(inputs()))
  let about = inputs()[0]
  watch(
    asked,
    () => {
      if (about !== inputs()[0]) data.value = undefined
      about = inputs()[0]
      error.value = undefined
      void refresh()
    },
    { immediate: true },
  )
  if (getCurrentScope()) onScopeDispose(() => running?.abort())
  return { data, error, loading, refresh }
}
