<script setup lang="ts">
import { computed, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import type { ScopeRow } from '@/api/types'
import ChartBox, { type Colours } from '@/components/chart/ChartBox.vue'
import { timeAxis, valueAxis } from '@/components/chart/options'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import NewsBar from '@/components/NewsBar.vue'
import PageState from '@/components/PageState.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import TimeText from '@/components/TimeText.vue'
import { useQuery } from '@/composables/useQuery'
import { useHeldView, useView } from '@/composables/useView'
import type { Column } from '@/download'
import { addressOf, rounded, took, whole } from '@/format'

const props = defineProps<{ recording: string }>()
const router = useRouter()
const { text, choice, number, flag, set } = useQuery()
const name = choice('name')
const kind = choice('kind')
const order = text('order')
const trace = text('trace', '', 'replace')
const findings = flag('findings')
const page = number('page', 1)
// Scopes that are picked to be compared on the board; the board compares those of one stream.
const picked = text('picked', '', 'replace')
const pickedList = computed(() => picked.value.split(',').filter(Boolean))
function choose(s: ScopeRow) {
  const address = addressOf(s.stream, s.id)
  const now = new Set(pickedList.value)
  if (!now.delete(address)) now.add(address)
  set({ picked: [...now].join(','), page: page.value > 1 ? String(page.value) : undefined }, 'replace')
}
const rows = 50

const common = computed(() => ({ name: name.value ?? '', kind: kind.value ?? '', trace: trace.value }))
const { data, error, loading, refresh, news, show } = useHeldView(
  () => props.recording,
  'scopes',
  () => ({ ...common.value, order: order.value, findings: findings.value, limit: rows, offset: (page.value - 1) * rows }),
  () => window.scrollY > 80 || page.value > 1,
)
// The chart shows the latest, the slowest of all and those with findings.
const { data: latest } = useView(() => props.recording, 'scopes', () => ({ ...common.value, limit: 400 }))
const { data: slowest } = useView(() => props.recording, 'scopes', () => ({ ...common.value, order: 'longest', limit: 60 }))
const { data: marked } = useView(() => props.recording, 'scopes', () => ({ ...common.value, findings: true, limit: 200 }))

interface Dots {
  name: string
  symbol: string
  rows: ScopeRow[]
}
const dots = computed<Dots[]>(() => {
  const found = marked.value?.scopes ?? []
  const slow = slowest.value?.scopes ?? []
  const there = new Set([...found, ...slow].map((s) => addressOf(s.stream, s.id)))
  return [
    { name: 'latest', symbol: 'circle', rows: (latest.value?.scopes ?? []).filter((s) => !there.has(addressOf(s.stream, s.id))) },
    { name: 'slowest', symbol: 'triangle', rows: slow },
    { name: 'with findings', symbol: 'diamond', rows: found },
  ]
})
const option = computed(() => {
  const series = dots.value
  return (c: Colours) => ({
    grid: { left: 66, right: 20, top: 34, bottom: 44 },
    legend: { top: 0, left: 0, textStyle: { color: c.text } },
    tooltip: {
      backgroundColor: c.surface,
      textStyle: { color: c.text },
      renderMode: 'richText' as const,
      formatter: (p: { data: [number, number, string] }) => `${p.data[2]}\nopened at ${took(p.data[0])}, took ${took(p.data[1])}`,
    },
    xAxis: { ...timeAxis(c, 'opened'), nameLocation: 'middle' as const, nameGap: 26, nameTextStyle: { color: c.quiet } },
    yAxis: { ...valueAxis(c, 'took'), type: 'log' as const, min: 'dataMin' as const, minInterval: undefined, axisLabel: { color: c.quiet, formatter: (v: number) => took(Math.round(v)) } },
    series: series.map((d, n) => ({
      type: 'scatter' as const,
      name: d.name,
      symbol: d.symbol,
      symbolSize: n === 0 ? 6 : n === 1 ? 10 : 9,
      itemStyle: { color: n === 2 ? c.error : n === 1 ? c.warning : c.series[5], opacity: n === 0 ? 0.7 : 0.95 },
      data: d.rows.map((s) => [s.opened, Math.max(1, s.took_ns), `${s.id} ${s.name}`]),
    })),
  })
})
function pick(p: { seriesIndex: number; dataIndex: number }) {
  const s = dots.value[p.seriesIndex]?.rows[p.dataIndex]
  if (s) void router.push({ name: 'scope', params: { recording: props.recording, scope: addressOf(s.stream, s.id) } })
}
const chart = useTemplateRef('chart')
const kinds = computed(() => [...new Set((data.value?.names ?? []).map((n) => n.kind))].filter(Boolean))
// The roots first: what was built outside any other scope.
const rowsShown = computed(() => [...(data.value?.roots ?? []), ...(data.value?.scopes ?? [])])
const columns: Column<ScopeRow>[] = [
  { title: 'stream', value: (s) => s.stream },
  { title: 'scope', value: (s) => s.id },
  { title: 'name', value: (s) => s.name },
  { title: 'kind', value: (s) => s.kind },
  { title: 'began', value: (s) => s.began },
  { title: 'took_ns', value: (s) => s.took_ns },
  { title: 'made', value: (s) => s.made },
  { title: 'uses', value: (s) => s.uses },
  { title: 'built_ns', value: (s) => s.built_ns },
  { title: 'findings', value: (s) => s.findings },
]
const command = computed(
  () => `keenlantern scopes ${props.recording}${name.value ? ` --name '${name.value}'` : ''}${order.value === 'longest' ? ' --order longest' : ''}${findings.value ? ' --findings' : ''}`,
)
</script>

<template>
  <main class="page">
    <h1>Scopes</h1>
    <NewsBar :news="news" @show="show" />
    <PageState :error="error" :loading="loading && !data" what="the scopes" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="data.total" class="pa-3 my-3">
        <ChartBox ref="chart" :option="option" :height="230" name="scopes" :label="`Durations of scopes over time: the latest ${latest?.scopes.length ?? 0}, the slowest, and ${marked?.scopes.length ?? 0} with findings`" @pick="pick" />
      </v-card>
      <div class="filters">
        <v-select v-model="name" class="wide" density="compact" variant="outlined" hide-details clearable label="Name" :items="data.names.map((n) => ({ title: `${n.name} (${rounded(n.scopes)})`, value: n.name }))" />
        <v-select v-model="kind" class="few" density="compact" variant="outlined" hide-details clearable label="Kind" :items="kinds" />
        <v-select v-model="order" class="few" density="compact" variant="outlined" hide-details label="Order" :items="[{ title: 'newest first', value: '' }, { title: 'longest first', value: 'longest' }]" />
        <v-text-field :model-value="trace" class="few wider" density="compact" variant="outlined" hide-details clearable label="Trace id" @change="trace = ($event.target as HTMLInputElement).value" @click:clear="trace = ''" />
        <v-switch v-model="findings" density="compact" hide-details color="primary" label="with findings only" />
        <span class="grow" />
        <v-btn v-if="pickedList.length" variant="flat" color="primary" :to="{ name: 'sharing', params: { recording }, query: { scopes: picked } }" data-compare-scopes>{{ pickedList.length }} on the board</v-btn>
        <ExportMenu name="scopes" :data="data" :columns="columns" :rows="rowsShown" :png="() => chart?.png()" />
      </div>
      <v-card>
        <p v-if="!rowsShown.length" class="pa-4 quiet">{{ data.total ? 'None of the scopes is of this kind.' : 'No scope has been opened yet.' }}</p>
        <v-table v-else hover>
          <thead>
            <tr>
              <th>Compare</th>
              <th>Scope</th>
              <th>Kind</th>
              <th>Began</th>
              <th class="num">Took</th>
              <th class="num">Building</th>
              <th class="num">Made</th>
              <th class="num">Uses</th>
              <th class="num">Findings</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in rowsShown" :key="`${s.stream}.${s.id}`" data-scope-row>
              <td><v-checkbox-btn :model-value="pickedList.includes(addressOf(s.stream, s.id))" density="compact" :aria-label="`Compare scope ${s.id}`" data-pick @update:model-value="choose(s)" /></td>
              <td><ScopeLink :scope="s.id" :stream="s.stream" :name="s.name" /></td>
              <td>{{ s.kind }}</td>
              <td><TimeText :at="s.began" /></td>
              <td class="num" :title="`${s.took_ns} ns`">{{ s.open ? 'open for ' : '' }}{{ took(s.took_ns) }}</td>
              <td class="num" :title="`${s.built_ns} ns`">{{ took(s.built_ns) }}</td>
              <td class="num">{{ whole(s.made) }}</td>
              <td class="num">{{ whole(s.uses) }}</td>
              <td class="num"><strong v-if="s.findings">◆ {{ whole(s.findings) }}</strong><span v-else class="quiet">0</span></td>
            </tr>
          </tbody>
        </v-table>
      </v-card>
      <div class="pager mt-3">
        <v-btn variant="outlined" :disabled="page <= 1" @click="page = page - 1">Back</v-btn>
        <span class="quiet">page {{ page }}; {{ whole(data.total) }} scopes in all</span>
        <v-btn variant="outlined" :disabled="!data.more" @click="set({ page: String(page + 1) })">Further</v-btn>
      </div>
      <CommandLine class="mt-4" :command="command" />
    </template>
  </main>
</template>

<style scoped>
.filters,
.pager {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
  margin-bottom: 12px;
}
.wide {
  flex: 0 1 280px;
}
.few {
  flex: 0 0 150px;
}
.wider {
  flex-basis: 220px;
}
.grow {
  flex: 1;
}
</style>
