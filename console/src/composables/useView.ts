import { inject, onScopeDispose, provide, toValue, type ComputedRef, type InjectionKey, type MaybeRefOrGetter } from 'vue'

import { api, type Query } from '@/api/client'
import { useFetched } from '@/composables/useFetched'
import { useLive } from '@/composables/useLive'

/** The recording whose pages are looked at: its id as the address has it. */
export interface Here {
  recording: ComputedRef<string>
  several: ComputedRef<boolean> // streams
}

const hereKey: InjectionKey<Here> = Symbol('here')

export const provideHere = (here: Here) => provide(hereKey, here)
export const useHere = () => inject(hereKey)

/** How long a page that is read again while its recording changes rests between two readings, in ms. */
const rest = 400

/** Reads a view of a recording, and reads it again while the recording changes. */
export function useView<T>(recording: MaybeRefOrGetter<string>, what: MaybeRefOrGetter<string>, query: MaybeRefOrGetter<Query>) {
  const fetched = useFetched(
    () => [`${toValue(recording)}/${toValue(what)}`, toValue(query)],
    (_about: string, q: Query, signal: AbortSignal) => api.view<T>(toValue(recording), toValue(what), q, signal),
  )
  useChanges(recording, fetched.refresh)
  return fetched
}

/** Calls refresh while a recording changes, and when the service comes back. */
export function useChanges(recording: MaybeRefOrGetter<string>, refresh: () => Promise<void>) {
  let soon: number | undefined
  const later = () => {
    if (soon !== undefined) return
    soon = window.setTimeout(() => {
      void refresh().finally(() => (soon = undefined))
    }, rest)
  }
  useLive((changed) => {
    const name = toValue(recording)
    // A prefix and "latest" name recordings too.
    if (name === 'latest' || changed.id.startsWith(name)) later()
  }, later)
  onScopeDispose(() => window.clearTimeout(soon))
}
