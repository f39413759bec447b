<script setup lang="ts">
import { mdiChevronDown, mdiChevronRight } from '@mdi/js'
import { watchDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'

import type { Board } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import NewsBar from '@/components/NewsBar.vue'
import PageState from '@/components/PageState.vue'
import { useQuery } from '@/composables/useQuery'
import { useHeldView, useView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf } from '@/format'

import SharingBoard from './SharingBoard.vue'

const props = defineProps<{ recording: string }>()
const { text, choice, number } = useQuery()
const name = choice('name')
const scopes = text('scopes', '', 'replace')
// 0: as the service has it, which the board then says.
const last = number('last', 0)
const depth = number('depth', 0)
const service = text('service')
const lifetime = text('lifetime')
const folded = text('folded', '', 'replace')

const query = computed(() => ({
  name: scopes.value ? '' : (name.value ?? ''),
  scopes: scopes.value,
  last: last.value || undefined,
  depth: depth.value || undefined,
  service: service.value,
  lifetime: lifetime.value,
  limit: 500,
}))
// Columns would move under the reader: new scopes are shown when they are asked for.
const { data, error, loading, refresh, news, show } = useHeldView(() => props.recording, 'sharing', query, (board) => (board?.scopes.length ?? 0) > 1)
const { data: names } = useView(() => props.recording, 'scopes', () => ({ limit: 1 }))

const picked = ref(scopes.value)
watchDebounced(
  picked,
  (value) => {
    if (/^([\d.,\s]|root)*$/.test(value ?? '')) scopes.value = (value ?? '').replaceAll(/\s/g, '')
  },
  { debounce: 400 },
)
watch(scopes, (value) => (picked.value = value))

const foldedSet = computed(() => new Set(folded.value.split(',').filter(Boolean)))
const services = computed(() => [...new Set((data.value?.rows ?? []).map((r) => nameOf(r.of)))])
function fold(service: string) {
  const now = new Set(foldedSet.value)
  if (!now.delete(service)) now.add(service)
  folded.value = [...now].join(',')
}
const allFolded = computed(() => services.value.length > 0 && services.value.every((s) => foldedSet.value.has(s)))

const columns = computed<Column<Board['rows'][number]>[]>(() => [
  { title: 'service', value: (r) => nameOf(r.of) },
  { title: 'consumer', value: (r) => r.path.join(' > ') },
  { title: 'site', value: (r) => r.site },
  { title: 'lifetime', value: (r) => r.of.lifetime },
  { title: 'behaved', value: (r) => r.observed.as },
  { title: 'agrees', value: (r) => r.observed.agrees },
  ...(data.value?.scopes ?? []).map((s, n) => ({ title: `scope ${s.id}`, value: (r: Board['rows'][number]) => r.cells[n]?.marks.join(' ') })),
])
const command = computed(() => {
  const most = last.value || data.value?.last
  const which = scopes.value ? ` --scopes ${scopes.value}` : `${name.value ? ` --name '${name.value}'` : ''}${most ? ` --last ${most}` : ''}`
  return `keenlantern sharing ${props.recording}${which}${service.value ? ` --service ${service.value}` : ''}`
})
</script>

<template>
  <main class="page">
    <h1>Sharing</h1>
    <NewsBar :news="news" @show="show" />
    <p class="quiet mb-3">Which instance each consumer was given, scope by scope: the same mark is the same instance.</p>
    <FilterBar>
      <v-select v-model="name" class="pick" density="compact" variant="outlined" hide-details clearable label="Scopes of this name" :items="(names?.names ?? []).map((n) => n.name)" :disabled="!!scopes" />
      <v-select :model-value="last || data?.last" class="few" density="compact" variant="outlined" hide-details label="The last" :items="[2, 5, 10, 20, 50]" :disabled="!!scopes" @update:model-value="last = $event ?? 0" />
      <v-text-field v-model="picked" class="few wider" density="compact" variant="outlined" hide-details clearable label="Scope ids" placeholder="12, 15" />
      <v-select :model-value="depth || data?.depth" class="few" density="compact" variant="outlined" hide-details label="Steps" :items="[1, 2, 3, 4, 6, 8]" @update:model-value="depth = $event ?? 0" />
      <template #end><ExportMenu v-if="data" name="sharing" :data="data" :columns="columns" :rows="data.rows" /></template>
    </FilterBar>
    <PageState :error="error" :loading="loading && !data" what="the board" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="!data.rows.length" class="pa-4">
        <p class="quiet">{{ data.scopes.length ? 'No instance was given out in these scopes, as the filters have it.' : 'There are no scopes to compare yet.' }}</p>
      </v-card>
      <template v-else>
        <div class="over quiet mb-1">
          <v-btn :prepend-icon="allFolded ? mdiChevronRight : mdiChevronDown" @click="folded = allFolded ? '' : services.join(',')">{{ allFolded ? 'Unfold all' : 'Fold all' }}</v-btn>
          <span>{{ data.scopes.length }} columns{{ data.name ? ` of ${data.name}` : '' }} · {{ data.rows.length }} of {{ data.total }} rows</span>
        </div>
        <SharingBoard :board="data" :folded="foldedSet" @fold="fold" />
      </template>
      <CommandLine class="mt-4" :command="command" />
    </template>
  </main>
</template>

<style scoped>
.pick {
  flex: 1 1 220px;
  max-width: 380px;
  min-width: 180px;
}
.few {
  flex: 0 0 118px;
}
.wider {
  flex-basis: 160px;
}
.over {
  display: flex;
  align-items: center;
  gap: 12px;
}
</style>
