import { onScopeDispose, toValue, type MaybeRefOrGetter } from 'vue'

import { api } from '@/api/client'
import { useFetched } from '@/composables/useFetched'
import { useLive } from '@/composables/useLive'

/** One finding with its evidence, read again while its recording changes. */
export function useFinding(recording: MaybeRefOrGetter<string>, finding: MaybeRefOrGetter<string>) {
  const fetched = useFetched(
    () => [`${toValue(recording)}/${toValue(finding)}`],
    (_about: string, signal: AbortSignal) => api.finding(toValue(recording), toValue(finding), signal),
  )
  let soon: number | undefined
  useLive(
    (changed) => {
      if (changed.id !== fetched.data.value?.recording && changed.id !== toValue(recording)) return
      soon ??= window.setTimeout(() => {
        soon = undefined
        void fetched.refresh()
      }, 250)
    },
    () => void fetched.refresh(),
  )
  onScopeDispose(() => window.clearTimeout(soon))
  return fetched
}
