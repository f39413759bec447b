<script setup lang="ts">
import { mdiClose, mdiLightbulbOutline, mdiPlay, mdiRefresh } from '@mdi/js'
import { watchDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'

import { api } from '@/api/client'
import CommandLine from '@/components/CommandLine.vue'
import PageState from '@/components/PageState.vue'
import { useFetched } from '@/composables/useFetched'
import { useNames } from '@/composables/useNames'
import { useQuery } from '@/composables/useQuery'
import { useHere, useView } from '@/composables/useView'
import { nameOf } from '@/format'

import ProposalList from './ProposalList.vue'
import WhatIfAnswer from './WhatIfAnswer.vue'

const props = defineProps<{ recording: string }>()
const here = useHere()
const names = useNames()

// The changes stand in the address, one behind the other.
const { text, flag } = useQuery()
const inAddress = text('set')
const sets = computed({
  get: () => inAddress.value.split(';').filter(Boolean),
  set: (list) => (inAddress.value = list.join(';')),
})
const add = (change: string) => (sets.value = [...sets.value.filter((s) => s.split('=')[0] !== change.split('=')[0]), change])

// The registrations that fit what is typed: there may be thousands.
const sought = ref('')
const looked = ref('')
watchDebounced(sought, (value) => (looked.value = (value ?? '').replace(/ .*/, '')), { debounce: 250 })
const { data: registrations } = useView(() => props.recording, 'registrations', () => ({ service: looked.value || undefined, limit: 100 }))
const items = computed(() =>
  (registrations.value?.registrations ?? [])
    .filter((r) => !r.internal && r.registration.lifetime && r.registration.lifetime !== 'external')
    .map((r) => {
      const of = r.registration
      const key = of.key === null ? '' : `[${of.key}]`
      return { title: `${names.of(of)}${of.implementation && of.implementation !== of.service ? ` (${names.type(of.implementation)})` : ''}, ${of.lifetime}`, value: `${of.implementation || nameOf({ ...of, key: null })}${key}` }
    }),
)
const which = ref<string>()
const lifetime = ref('scoped')

// A running recording is played again on request: that takes as long as analysing it.
const { data, error, loading, refresh } = useFetched(
  () => [`${props.recording} ${sets.value.join(';')}`, sets.value] as const,
  async (_about: string, list: readonly string[], signal: AbortSignal) => {
    if (!list.length) return undefined
    const answer = await api.whatIf(props.recording, list, signal)
    names.learn(answer)
    return answer
  },
)

// Proposals are played one after the other: only on request.
const proposing = flag('propose')
const proposals = useFetched(
  () => [props.recording, proposing.value] as const,
  async (recording: string, wanted: boolean, signal: AbortSignal) => {
    if (!wanted) return undefined
    const answer = await api.view(recording, 'proposals', {}, signal)
    names.learn(answer)
    return answer
  },
)
const command = computed(() => `keenlantern whatif ${props.recording}${sets.value.map((s) => ` --set '${s}'`).join('')}`)
</script>

<template>
  <main class="page">
    <h1>What if</h1>
    <p class="quiet mb-3">The recording, played again as if registrations had other lifetimes: what that would save or add, and which findings would appear or go.</p>
    <v-card class="pa-4 mb-4">
      <div class="form">
        <v-autocomplete v-model="which" v-model:search="sought" no-filter class="which" :items="items" label="Registration" density="compact" variant="outlined" hide-details />
        <v-select v-model="lifetime" class="lifetime" :items="['singleton', 'scoped', 'transient', 'per-consumer']" label="Lifetime" density="compact" variant="outlined" hide-details />
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="!which" data-play @click="which && add(`${which}=${lifetime}`)">Play it</v-btn>
        <v-btn variant="outlined" :prepend-icon="mdiLightbulbOutline" data-propose @click="proposing = true">Propose changes</v-btn>
      </div>
      <div v-if="sets.length" class="mt-3 sets">
        <v-chip v-for="s in sets" :key="s" closable :close-icon="mdiClose" :close-label="`Take ${s} out`" @click:close="sets = sets.filter((o) => o !== s)">{{ s }}</v-chip>
      </div>
    </v-card>
    <template v-if="proposing">
      <PageState :error="proposals.error.value" :loading="proposals.loading.value && !proposals.data.value" what="the recording, once for each change" @retry="proposals.refresh" />
      <ProposalList v-if="proposals.data.value" :proposals="proposals.data.value" class="mb-4" @play="sets = $event" />
    </template>
    <PageState :error="error" :loading="loading && !data && sets.length > 0" what="the recording once more" @retry="refresh" />
    <v-btn v-if="data && sets.length && here?.detail.value?.state === 'running'" class="mb-4" variant="outlined" :prepend-icon="mdiRefresh" :loading="loading" @click="refresh">Play it again</v-btn>
    <WhatIfAnswer v-if="data && sets.length" :answer="data" :recording="recording" />
    <p v-else-if="!sets.length && !proposing" class="quiet">Choose a registration and another lifetime, or have changes proposed.</p>
    <CommandLine class="mt-4" :command="command" />
  </main>
</template>

<style scoped>
.form {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 12px;
}
.which {
  flex: 1 1 420px;
}
.lifetime {
  flex: 0 0 180px;
}
.sets {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
</style>
