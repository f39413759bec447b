import { onScopeDispose, ref } from 'vue'

import { openLive } from '@/api/client'
import type { Recording } from '@/api/types'

type Hear = (recording: Recording) => void

// One line to the service is shared by everything on the page.
const hearing = new Set<Hear>()
const returned = new Set<() => void>()
// Pages that were read before the line was open: they missed what changed in between.
const early = new Set<() => void>()
let line: EventSource | undefined

/** Whether the live line is open; the browser opens it again by itself. */
export const connected = ref(true)

function open() {
  line = openLive()
  let lost = false
  line.addEventListener('recording', (event) => {
    const recording = JSON.parse((event as MessageEvent<string>).data) as Recording
    hearing.forEach((hear) => hear(recording))
  })
  line.onopen = () => {
    connected.value = true
    for (const again of lost ? returned : early) again()
    early.clear()
    lost = false
  }
  line.onerror = () => {
    connected.value = false
    lost = true
    // A browser gives up for good on some answers; then a new line is tried.
    if (line?.readyState === EventSource.CLOSED) {
      setTimeout(() => {
        line?.close()
        open()
        lost = true
      }, 2000)
    }
  }
}

// A page that is left may be kept by the browser for the way back, and would keep its line with it: six of those, and
// nothing more of this service can be read.
addEventListener('pagehide', () => {
  line?.close()
  line = undefined
})
addEventListener('pageshow', (event) => {
  if (event.persisted) reopen()
})

// A browser opens six connections to a service, for all tabs together: a hidden tab closes its line, and reads again when it is shown.
document.addEventListener('visibilitychange', () => {
  if (!document.hidden) return reopen()
  line?.close()
  line = undefined
})

function reopen() {
  if (line || !hearing.size) return
  open()
  returned.forEach((again) => again())
}

/** Calls hear for every recording that changes, and back when the service was away and may have changed meanwhile. */
export function useLive(hear: Hear, back: () => void) {
  hearing.add(hear)
  returned.add(back)
  if (!line && !document.hidden) open()
  if (line?.readyState !== EventSource.OPEN) early.add(back)
  onScopeDispose(() => {
    hearing.delete(hear)
    returned.delete(back)
    early.delete(back)
  })
}
