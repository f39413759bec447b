import { inject, onScopeDispose, provide, ref, toValue, type ComputedRef, type InjectionKey, type MaybeRefOrGetter, type ShallowRef } from 'vue'

import { api, type ViewAnswer, type ViewName, type ViewQuery } from '@/api/client'
import type { Recording, RecordingDetail } from '@/api/types'
import { useFetched } from '@/composables/useFetched'
import { useLive } from '@/composables/useLive'
import { useNames } from '@/composables/useNames'

/** The recording whose pages are inspected: its id as the address has it. */
export interface Here {
  recording: ComputedRef<string>
  detail: ShallowRef<RecordingDetail | undefined> // there before any page of it is
  refresh: () => Promise<void>
}

const hereKey: InjectionKey<Here> = Symbol('here')

export const provideHere = (here: Here) => provide(hereKey, here)
export const useHere = () => inject(hereKey)

/** How long a page that is read again while its recording changes rests between two readings, in ms. */
const rest = 400

function fetchView<W extends ViewName>(recording: MaybeRefOrGetter<string>, what: W, query: MaybeRefOrGetter<ViewQuery<W>>) {
  const names = useNames()
  const about = () => `${toValue(recording)}/${what.replace(/\{(\w+)\}/g, (_, name: string) => String((toValue(query) as Record<string, unknown>)[name]))}`
  return useFetched(
    () => [about(), toValue(query)],
    async (_about: string, q: ViewQuery<W>, signal: AbortSignal): Promise<ViewAnswer<W>> => {
      const answer = await api.view(toValue(recording), what, q, signal)
      names.learn(answer)
      return answer
    },
  )
}

/** Reads a view of a recording, and reads it again while the recording changes. */
export function useView<W extends ViewName>(recording: MaybeRefOrGetter<string>, what: W, query: MaybeRefOrGetter<ViewQuery<W>>) {
  const fetched = fetchView(recording, what, query)
  useChanges(recording, fetched.refresh)
  return fetched
}

/**
 * The same for a view whose rows would move when it is read again: while the reader has scrolled into it, scopes that have
 * come since are only counted, in news, until they are asked for.
 */
export function useHeldView<W extends ViewName>(recording: MaybeRefOrGetter<string>, what: W, query: MaybeRefOrGetter<ViewQuery<W>>, held: (data: ViewAnswer<W> | undefined) => boolean) {
  const fetched = fetchView(recording, what, query)
  const news = ref(0)
  let scopes = useHere()?.detail.value?.figures.scopes ?? 0
  let shown = scopes
  async function show() {
    shown = scopes
    news.value = 0
    await fetched.refresh()
  }
  useChanges(
    recording,
    async () => {
      if (!held(fetched.data.value) || scopes <= shown) await show()
      else news.value = scopes - shown
    },
    (changed) => {
      scopes = changed.figures.scopes
    },
  )
  return { ...fetched, news, show }
}

/** Calls refresh while a recording changes, and when the service comes back. */
export function useChanges(recording: MaybeRefOrGetter<string>, refresh: () => Promise<void>, hear?: (changed: Recording) => void) {
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
    if (name !== 'latest' && !changed.id.startsWith(name)) return
    hear?.(changed)
    later()
  }, later)
  onScopeDispose(() => window.clearTimeout(soon))
}
