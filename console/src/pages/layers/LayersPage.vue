<script setup lang="ts">
import { computed } from 'vue'

import type { StackRow } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import PageState from '@/components/PageState.vue'
import { useQuery } from '@/composables/useQuery'
import { useView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf } from '@/format'

import StackView from './StackView.vue'

const props = defineProps<{ recording: string }>()
const { text, number } = useQuery()
const page = number('page', 1)
const rows = 20
const service = text('service')
const { data, error, loading, refresh } = useView(() => props.recording, 'layers', () => ({ service: service.value, limit: rows, offset: (page.value - 1) * rows }))
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))
const columns: Column<StackRow>[] = [
  { title: 'service', value: (s) => s.service },
  { title: 'key', value: (s) => s.key },
  { title: 'layers', value: (s) => s.layers.map((l) => l.of.implementation || nameOf(l.of)).join(' > ') },
  { title: 'calls', value: (s) => s.layers.map((l) => l.calls).join(' > ') },
  { title: 'seen', value: (s) => s.seen.length },
  { title: 'round', value: (s) => s.seen.filter((c) => !c.whole).reduce((n, c) => n + c.count, 0) },
]
</script>

<template>
  <main class="page">
    <h1>Layers</h1>
    <p class="quiet mb-3">Decorators from the outermost to the innermost, how many calls reach each, and who was given which. Consumers that bypass a layer are highlighted.</p>
    <FilterBar :lifetime="false">
      <template #end><ExportMenu v-if="data" name="layers" :data="data" :columns="columns" :rows="data.stacks" /></template>
    </FilterBar>
    <PageState :error="error" :loading="loading && !data" what="the layers" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="!data.stacks.length" class="pa-4"><p class="quiet">No service is built in layers{{ service ? ' that the filter lets through' : '' }}.</p></v-card>
      <v-card v-for="(s, n) in data.stacks" v-else :key="n" class="pa-4 mb-4" data-stack>
        <StackView :stack="s" :used="data.use_seen" />
      </v-card>
      <v-pagination v-if="pages > 1" v-model="page" :length="pages" :total-visible="7" class="mb-3" />
      <CommandLine class="mt-4" :command="`keenlantern layers ${recording}${service ? ` --service ${service}` : ''}`" />
    </template>
  </main>
</template>
