import { computed, ref, watch, type Ref } from 'vue'

import { api } from '@/api/client'
import type { Recording } from '@/api/types'
import { useFetched } from '@/composables/useFetched'
import { useLive } from '@/composables/useLive'

export const pageSize = 25

/**
 * A page of recordings that follows what happens. Those shown change in place; new ones wait in `fresh` until they are
 * asked for, unless the list's top is being looked at.
 */
export function useRecordings(page: Ref<number>, atTop: () => boolean) {
  const offset = computed(() => (page.value - 1) * pageSize)
  const { data, error, loading, refresh } = useFetched(() => [offset.value], (from: number, signal: AbortSignal) => api.recordings(pageSize, from, signal))
  const fresh = ref(new Set<string>())

  function hear(recording: Recording) {
    const list = data.value
    if (!list) return
    const at = list.recordings.findIndex((r) => r.id === recording.id)
    if (at >= 0) {
      data.value = { ...list, recordings: list.recordings.with(at, recording) }
    } else if (page.value === 1 && atTop()) {
      const recordings = [recording, ...list.recordings].sort((a, b) => (a.created < b.created ? 1 : -1))
      data.value = { recordings: recordings.slice(0, pageSize), total: list.total + 1 }
    } else if (list.recordings.every((r) => r.created < recording.created)) {
      fresh.value.add(recording.id)
    }
  }
  useLive(hear, refresh)

  async function showFresh() {
    page.value = 1
    fresh.value = new Set()
    await refresh()
  }
  watch(page, () => (fresh.value = new Set()))
  return { data, error, loading, refresh, fresh, showFresh }
}
