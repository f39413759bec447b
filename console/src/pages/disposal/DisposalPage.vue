<script setup lang="ts">
import { computed, useTemplateRef } from 'vue'

import type { DisposalView } from '@/api/types'
import ChartBox, { type Colours } from '@/components/chart/ChartBox.vue'
import { legendHeight, linesOverTime, overTime } from '@/components/chart/options'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import NewsBar from '@/components/NewsBar.vue'
import PageState from '@/components/PageState.vue'
import RegLink from '@/components/RegLink.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import TimeText from '@/components/TimeText.vue'
import { useNames } from '@/composables/useNames'
import { useQuery } from '@/composables/useQuery'
import { useHeldView } from '@/composables/useView'
import type { Column } from '@/download'
import { addressOf, count, nameOf, rounded, took, whole } from '@/format'

import ClosingSteps from './ClosingSteps.vue'

const props = defineProps<{ recording: string }>()
const names = useNames()
const { text } = useQuery()
const service = text('service')
const lifetime = text('lifetime')
const drawn = text('show')
const { data, error, loading, refresh, news, show } = useHeldView(() => props.recording, 'disposal', () => ({ service: service.value, lifetime: lifetime.value, limit: 60 }), () => window.scrollY > 80)

// The six that grow most are drawn, unless others are chosen.
const chosen = computed(() => {
  const rows = data.value?.alive ?? []
  const ids = new Set(drawn.value.split(',').filter(Boolean).map(Number))
  if (ids.size) return rows.filter((r) => ids.has(r.id))
  return [...rows].sort((a, b) => (b.slope_per_thousand ?? 0) - (a.slope_per_thousand ?? 0) || b.alive - a.alive).slice(0, 6)
})
function toggle(id: number) {
  const now = new Set(chosen.value.map((r) => r.id))
  if (!now.delete(id)) now.add(id)
  drawn.value = [...now].join(',')
}
const option = computed(() => {
  const step = data.value?.width_ns ?? 1
  const lines = chosen.value.map((r) => ({ name: names.of(r.of), points: overTime(r.peaks, step) }))
  const closings = overTime(data.value?.closed ?? [], step)
  return (c: Colours) => linesOverTime(c, lines, 'alive', closings)
})
const label = computed(() => 'Alive over time: ' + chosen.value.map((r) => `${nameOf(r.of)}, ${r.alive} now, ${r.most} at most`).join('; '))
const chart = useTemplateRef('chart')
const columns: Column<DisposalView['alive'][number]>[] = [
  { title: 'service', value: (r) => nameOf(r.of) },
  { title: 'implementation', value: (r) => r.of.implementation },
  { title: 'lifetime', value: (r) => r.of.lifetime },
  { title: 'alive', value: (r) => r.alive },
  { title: 'most', value: (r) => r.most },
  { title: 'made', value: (r) => r.made },
  { title: 'slope_per_thousand', value: (r) => r.slope_per_thousand },
  { title: 'bytes', value: (r) => r.bytes },
]
function slope(v: number | null): string {
  if (v === null) return '–'
  return (v > 0 ? '+' : '') + (Math.abs(v) < 10 ? v.toFixed(1) : rounded(v))
}
</script>

<template>
  <main class="page">
    <h1 class="mb-2">Disposal</h1>
    <NewsBar :news="news" @show="show" />
    <FilterBar>
      <template #end><ExportMenu v-if="data" name="disposal" :data="data" :columns="columns" :rows="data.alive" :png="() => chart?.png()" /></template>
    </FilterBar>
    <PageState :error="error" :loading="loading && !data" what="what is alive" @retry="refresh" />
    <template v-if="data">
      <v-alert v-if="!data.seen.disposals" type="info" density="compact" class="mb-3">This recorder does not see disposals. The page shows only what was built and what has ended.</v-alert>
      <v-card class="pa-3">
        <h2>Alive over time</h2>
        <p v-if="!chosen.length" class="quiet">Nothing that matches the filters has been built.</p>
        <ChartBox v-else ref="chart" :option="option" :label="label" :height="220 + legendHeight(chosen.length + 1)" name="alive" />
      </v-card>
      <v-card v-if="data.alive.length" class="mt-3">
        <v-table hover>
          <thead>
            <tr>
              <th>Drawn</th>
              <th>Registration</th>
              <th class="num">Alive</th>
              <th class="num">At most</th>
              <th class="num">Made</th>
              <th class="num" title="how many more are alive after a thousand further scopes">Slope per 1000 scopes</th>
              <th class="num">Bytes</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in data.alive.slice(0, 60)" :key="r.id" data-alive>
              <td><v-checkbox-btn :model-value="chosen.includes(r)" density="compact" :aria-label="`Draw ${nameOf(r.of)}`" @update:model-value="toggle(r.id)" /></td>
              <td class="py-1"><RegLink :of="r.of" lifetime full /></td>
              <td class="num" :title="whole(r.alive)">{{ rounded(r.alive) }}</td>
              <td class="num" :title="whole(r.most)">{{ rounded(r.most) }}</td>
              <td class="num" :title="whole(r.made)">{{ rounded(r.made) }}</td>
              <td class="num"><strong v-if="(r.slope_per_thousand ?? 0) >= 1">▲ {{ slope(r.slope_per_thousand) }}</strong><span v-else>{{ slope(r.slope_per_thousand) }}</span></td>
              <td class="num">{{ r.bytes ? rounded(r.bytes) : '–' }}</td>
            </tr>
          </tbody>
        </v-table>
      </v-card>

      <div class="parts mt-4">
        <section>
          <h2 class="mb-1">Never disposed</h2>
          <v-card>
            <p v-if="!data.undone.length" class="pa-3 quiet">Everything that has to be disposed was.</p>
            <v-table v-else>
              <thead><tr><th>Registration</th><th>Who should</th><th class="num">Ended without</th><th class="num">Still waiting</th></tr></thead>
              <tbody>
                <tr v-for="u in data.undone" :key="u.id">
                  <td class="py-1"><RegLink :of="u.of" full /></td>
                  <td>{{ u.disposer }}</td>
                  <td class="num">{{ whole(u.ended) }}</td>
                  <td class="num">{{ whole(u.alive) }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </section>
        <section>
          <h2 class="mb-1">Open scopes</h2>
          <v-card>
            <p v-if="!data.open.length" class="pa-3 quiet">No scope is open.</p>
            <v-table v-else>
              <thead><tr><th>Scope</th><th>Began</th><th class="num">Open for</th><th class="num">Made</th></tr></thead>
              <tbody>
                <tr v-for="s in data.open" :key="`${s.stream}.${s.id}`">
                  <td><ScopeLink :scope="s.id" :stream="s.stream" :name="s.name" /></td>
                  <td><TimeText :at="s.began" /></td>
                  <td class="num">{{ took(s.took_ns) }}</td>
                  <td class="num">{{ whole(s.made) }}</td>
                </tr>
              </tbody>
            </v-table>
            <p v-if="data.open_count > data.open.length" class="pa-2 quiet">{{ count(data.open_count, 'scope is', 'scopes are') }} open in all.</p>
          </v-card>
        </section>
      </div>
      <section v-if="data.shutdown" class="mt-4">
        <h2 class="mb-1">The shutdown</h2>
        <ClosingSteps :closing="data.shutdown" />
      </section>
      <section class="mt-4">
        <h2 class="mb-1">The latest closings</h2>
        <p v-if="!data.closings.length" class="quiet">No closing with a disposal was seen.</p>
        <v-expansion-panels v-else variant="accordion" flat>
          <v-expansion-panel v-for="c in data.closings" :key="`${c.stream}.${c.scope}`" :title="`Scope ${addressOf(c.stream, c.scope)} ${c.name}: ${count(c.total, 'disposal', 'disposals')} in ${took(c.took_ns)}`">
            <template #text><ScopeLink :scope="c.scope" :stream="c.stream" :name="c.name" /><ClosingSteps class="mt-2" :closing="c" /></template>
          </v-expansion-panel>
        </v-expansion-panels>
      </section>
      <CommandLine class="mt-4" :command="`keenlantern disposal ${recording}${service ? ` --service ${service}` : ''}`" />
    </template>
  </main>
</template>

<style scoped>
.parts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 460px), 1fr));
  gap: 20px;
}
</style>
