<script setup lang="ts">
import { mdiCheckCircleOutline, mdiKeyPlus, mdiTimerSandEmpty } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, Problem } from '@/api/client'
import type { Recording } from '@/api/types'
import CopyButton from '@/components/CopyButton.vue'
import { useFetched } from '@/composables/useFetched'
import { useLive } from '@/composables/useLive'
import { useQuery } from '@/composables/useQuery'
import { count } from '@/format'

import { ways } from './ways'

/** What to type so that an application is recorded here, and whether it has worked. */
const { text, set } = useQuery()
const runtime = text('runtime', 'Go', 'replace')
const container = text('container', '', 'replace')
const runtimes = [...new Set(ways.map((w) => w.runtime))]
const containers = computed(() => ways.filter((w) => w.runtime === runtime.value))
const way = computed(() => containers.value.find((w) => w.container === container.value) ?? containers.value[0] ?? ways[0]!)

const { data: service } = useFetched(() => [], (signal: AbortSignal) => api.service(signal))
const token = ref('')
const problem = ref<Problem>()
async function makeToken() {
  problem.value = undefined
  try {
    token.value = (await api.createToken('record', `for an application on ${way.value.container}`)).secret
  } catch (caught) {
    problem.value = Problem.of(caught)
  }
}
const lines = computed(() => way.value.lines({ origin: window.location.origin, token: service.value?.tokens ? token.value || 'TOKEN' : '', recorders: service.value?.recorders ?? {} }))

// What was recorded before this page was opened is not what is waited for.
const since = Date.now() - 2000
const come = ref<Recording>()
useLive(
  (recording) => {
    if (Date.parse(recording.created) >= since || recording.id === come.value?.id) come.value = recording
  },
  () => {},
)
</script>

<template>
  <v-card class="pa-5 mb-4" data-yours>
    <h2>Record your application</h2>
    <div class="row mt-3" role="group" aria-label="Runtime and container">
      <v-btn-toggle :model-value="way.runtime" mandatory density="compact" variant="outlined" color="primary" aria-label="Runtime" @update:model-value="(v: string) => set({ runtime: v, container: undefined }, 'replace')">
        <v-btn v-for="r in runtimes" :key="r" :value="r">{{ r }}</v-btn>
      </v-btn-toggle>
      <v-btn-toggle :model-value="way.container" mandatory density="compact" variant="outlined" color="primary" aria-label="Container" @update:model-value="(v: string) => (container = v)">
        <v-btn v-for="w in containers" :key="w.container" :value="w.container">{{ w.container }}</v-btn>
      </v-btn-toggle>
    </div>
    <ol class="lines">
      <li v-for="line in lines" :key="line.what">
        <div>{{ line.what }}</div>
        <div class="line"><code class="code">{{ line.how }}</code><CopyButton :text="line.how" what="the line" /></div>
      </li>
    </ol>
    <div v-if="service?.tokens" class="row mt-3">
      <v-btn :prepend-icon="mdiKeyPlus" :disabled="!!token" @click="makeToken">Make a token for it</v-btn>
      <span class="quiet">{{ token ? 'The token is in the line above. It is shown this once: it may record and nothing else.' : 'This service wants a token with everything that is sent to it.' }}</span>
      <span v-if="problem" class="bad">{{ problem.detail }}</span>
    </div>
    <p class="mt-4 status" role="status" data-come>
      <template v-if="come">
        <v-icon :icon="mdiCheckCircleOutline" color="success" size="small" />
        Here it is: <router-link :to="{ name: 'recording', params: { recording: come.id } }">{{ come.app }} {{ come.version }}</router-link>, {{ count(come.figures.events, 'event', 'events') }} so far.
      </template>
      <template v-else><v-icon :icon="mdiTimerSandEmpty" size="small" /> Waiting for the first event. This changes by itself when one comes.</template>
    </p>
  </v-card>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}
.lines {
  margin: 14px 0 0;
  padding-left: 20px;
}
.lines li {
  margin-bottom: 10px;
}
.line {
  display: flex;
  align-items: center;
  gap: 8px;
}
.line code {
  overflow-wrap: anywhere;
  white-space: pre-wrap;
}
.status {
  display: flex;
  align-items: center;
  gap: 6px;
}
</style>
