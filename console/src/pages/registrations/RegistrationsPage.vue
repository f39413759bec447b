<script setup lang="ts">
import { mdiGraphOutline, mdiHammerWrench, mdiTable } from '@mdi/js'
import { computed, defineAsyncComponent } from 'vue'

import type { ViewQuery } from '@/api/client'
import CommandLine from '@/components/CommandLine.vue'
import FilterBar from '@/components/FilterBar.vue'
import { useQuery } from '@/composables/useQuery'

import ByHandTable from './ByHandTable.vue'
import RegistrationTable from './RegistrationTable.vue'

const WiringGraph = defineAsyncComponent(() => import('./WiringGraph.vue'))

const props = defineProps<{ recording: string }>()
const { set, text, number } = useQuery()
const service = text('service')
const lifetime = text('lifetime')
const module = text('module')
const when = text('when')
const how = text('how', '', 'replace')
const view = text('view', 'table')
const focus = number('focus', -1)
const opened = text('open')
const filter = computed(() => ({ service: service.value, lifetime: lifetime.value, module: module.value, when: (when.value || undefined) as ViewQuery<'registrations'>['when'], how: how.value || undefined }))
const command = computed(
  () => `keenlantern registrations ${props.recording}${service.value ? ` --service ${service.value}` : ''}${lifetime.value ? ` --lifetime ${lifetime.value}` : ''}${when.value ? ` --when '${when.value}'` : ''}${how.value ? ` --how '${how.value}'` : ''}${view.value === 'graph' ? ' --graph dot' : ''}`,
)
const byHandCommand = computed(() => `keenlantern by-hand ${props.recording}${service.value ? ` --service ${service.value}` : ''}`)
</script>

<template>
  <main class="page">
    <h1 class="mb-2">Registrations</h1>
    <FilterBar module>
      <v-btn-toggle v-model="view" density="compact" variant="outlined" mandatory aria-label="Show as">
        <v-btn value="table" :prepend-icon="mdiTable">Table</v-btn>
        <v-btn value="graph" :prepend-icon="mdiGraphOutline" data-graph-button>Graph</v-btn>
        <v-btn value="by-hand" :prepend-icon="mdiHammerWrench" data-by-hand-button>By hand</v-btn>
      </v-btn-toggle>
      <template v-if="view === 'table'">
        <v-select v-model="when" class="few" density="compact" variant="outlined" hide-details label="First made" :items="[{ title: 'at any time', value: '' }, 'at start', 'on demand']" />
        <v-text-field :model-value="how" class="few" density="compact" variant="outlined" hide-details clearable label="Filled by" placeholder="setter" @change="how = ($event.target as HTMLInputElement).value" @click:clear="how = ''" />
      </template>
      <template #end><span id="registrations-export" /></template>
    </FilterBar>
    <WiringGraph v-if="view === 'graph'" v-model:focus="focus" v-model:module="opened" :recording="recording" :filter="{ service, lifetime, module }" @search="(sought) => set({ service: sought, focus: undefined, open: undefined })" />
    <ByHandTable v-else-if="view === 'by-hand'" :recording="recording" :service="service" />
    <RegistrationTable v-else :recording="recording" :filter="filter" />
    <CommandLine class="mt-4" :command="view === 'by-hand' ? byHandCommand : command" />
  </main>
</template>

<style scoped>
.few {
  flex: 0 0 160px;
}
</style>
