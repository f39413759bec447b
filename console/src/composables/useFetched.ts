import { getCurrentScope, onScopeDispose, ref, shallowRef, toValue, watch, type MaybeRefOrGetter } from 'vue'

import { Problem } from '@/api/client'

/**
 * Fetches again whenever one of the inputs changes, ignores answers that were overtaken, and stops with the scope that
 * called it. While an answer is on its way the last one stays.
 */
export function useFetched<I extends unknown[], T>(
  inputs: { [K in keyof I]: MaybeRefOrGetter<I[K]> },
  fetcher: (...args: [...I, AbortSignal]) => Promise<T>,
) {
  const data = shallowRef<T>()
  const error = shallowRef<Problem>()
  const loading = ref(false)
  let running: AbortController | undefined

  async function refresh(): Promise<void> {
    running?.abort()
    const mine = (running = new AbortController())
    loading.value = true
    try {
      const values = inputs.map((input) => toValue(input as MaybeRefOrGetter)) as unknown as I
      const answer = await fetcher(...values, mine.signal)
      if (mine.signal.aborted) return
      data.value = answer
      error.value = undefined
    } catch (caught) {
      if (mine.signal.aborted) return
      error.value = caught instanceof Problem ? caught : new Problem('This page has a fault', String(caught), -1)
    } finally {
      if (running === mine) loading.value = false
    }
  }

  watch(
    () => inputs.map((input) => toValue(input as MaybeRefOrGetter)),
    () => {
      data.value = undefined
      void refresh()
    },
    { immediate: true },
  )
  if (getCurrentScope()) onScopeDispose(() => running?.abort())
  return { data, error, loading, refresh }
}
