<script setup lang="ts">
import { mdiGraphOutline, mdiTable } from '@mdi/js'
import { computed, defineAsyncComponent } from 'vue'

import CommandLine from '@/components/CommandLine.vue'
import FilterBar from '@/components/FilterBar.vue'
import { useQuery } from '@/composables/useQuery'

import RegistrationTable from './RegistrationTable.vue'

const WiringGraph = defineAsyncComponent(() => import('./WiringGraph.vue'))

const props = defineProps<{ recording: string }>()
const { text, number } = useQuery()
const service = text('service')
const lifetime = text('lifetime')
const module = text('module')
const view = text('view', 'table')
const focus = number('focus', -1)
const filter = computed(() => ({ service: service.value, lifetime: lifetime.value, module: module.value }))
const command = computed(
  () => `keenlantern registrations ${props.recording}${service.value ? ` --service ${service.value}` : ''}${lifetime.value ? ` --lifetime ${lifetime.value}` : ''}${view.value === 'graph' ? ' --graph dot' : ''}`,
)
</script>

<template>
  <main class="page">
    <h1 class="mb-2">Registrations</h1>
    <FilterBar module>
      <v-btn-toggle v-model="view" density="compact" variant="outlined" mandatory aria-label="Show as">
        <v-btn value="table" :prepend-icon="mdiTable">Table</v-btn>
        <v-btn value="graph" :prepend-icon="mdiGraphOutline" data-graph-button>Graph</v-btn>
      </v-btn-toggle>
      <template #end><span id="registrations-export" /></template>
    </FilterBar>
    <WiringGraph v-if="view === 'graph'" v-model:focus="focus" :recording="recording" :filter="filter" />
    <RegistrationTable v-else :recording="recording" :filter="filter" />
    <CommandLine class="mt-4" :command="command" />
  </main>
</template>
