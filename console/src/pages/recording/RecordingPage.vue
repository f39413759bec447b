<script setup lang="ts">
import { computed, useTemplateRef } from 'vue'

import ChartBox, { type Colours } from '@/components/chart/ChartBox.vue'
import { legendHeight, linesOverTime, overTime } from '@/components/chart/options'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import { useNames } from '@/composables/useNames'
import { useHere, useView } from '@/composables/useView'
import { count, healthOf, nameOf, rounded } from '@/format'

import FindingCard from './FindingCard.vue'
import RecordingCare from './RecordingCare.vue'
import StreamTable from './StreamTable.vue'

const props = defineProps<{ recording: string }>()
const here = useHere()!
const names = useNames()
const detail = here.detail
const { data: triage, error, loading, refresh } = useView(() => props.recording, 'triage', () => ({ limit: 3 }))
const { data: disposal } = useView(() => props.recording, 'disposal', () => ({ limit: 5 }))
// Where the service holds none, there is nothing to say.
const { data: contract } = useView(() => props.recording, 'contract', () => ({}))
const agreed = computed(() => {
  const c = contract.value
  if (!c) return ''
  if (c.broken) return `◆ The contract is broken in ${count(c.broken, 'clause', 'clauses')}.`
  return `✓ The contract is kept${c.not_seen ? `; ${count(c.not_seen, 'clause was', 'clauses were')} not seen` : ''}.`
})

const first = computed(() => (triage.value?.groups ?? []).filter((g) => g.severity === 'error'))
const perFamily = computed(() => triage.value?.families ?? [])

const sentence = computed(() => {
  const d = detail.value
  const t = triage.value
  if (!d || !t) return ''
  const scopes = `${count(d.figures.scopes, 'scope', 'scopes')}, ${healthOf(d.health)}`
  if (!t.findings) return `Nothing found; ${scopes}.`
  if (!t.wrong) return `No errors, ${count(t.findings, 'lesser finding', 'lesser findings')}; ${scopes}.`
  return `${count(t.wrong, 'mistake', 'mistakes')} to fix first${t.tally.error > t.wrong ? `, the ${t.wrong === 1 ? 'cause' : 'causes'} of ${count(t.tally.error, 'error', 'errors')}` : ''}; ${scopes}.`
})

// What grows is shown before what is merely many.
const rising = computed(() => [...(disposal.value?.alive ?? [])].sort((a, b) => b.alive - a.alive).slice(0, 5))
const aliveOption = computed(() => {
  const step = disposal.value?.width_ns ?? 1
  const lines = rising.value.map((r) => ({ name: names.of(r.of), points: overTime(r.series, step) }))
  return (c: Colours) => linesOverTime(c, lines, 'alive')
})
const rateOption = computed(() => {
  const step = disposal.value?.width_ns ?? 1
  const points = overTime((disposal.value?.opened ?? []).map((v) => (v * 1e9) / step), step)
  return (c: Colours) => linesOverTime(c, [{ name: 'scopes a second', points }], 'scopes/s')
})
const aliveLabel = computed(() => `Alive over time: ${rising.value.map((r) => `${nameOf(r.of)} ${r.alive} now, ${r.most} at most`).join('; ')}`)
const aliveChart = useTemplateRef('aliveChart')
</script>

<template>
  <main class="page">
    <h1 class="sr-only">Overview</h1>
    <PageState :error="error" :loading="loading && !triage" what="the findings" @retry="refresh" />
    <template v-if="detail && triage">
      <p class="sentence" data-sentence>{{ sentence }}</p>
      <p v-if="contract" class="mb-3" data-contract>
        <router-link class="app-link" :to="{ name: 'contract', params: { recording } }">{{ agreed }}</router-link>
      </p>

      <section v-if="first.length" class="cards mt-3" aria-label="What to look at first">
        <FindingCard v-for="g in first" :key="g.key" :group="g" :recording="detail.id" />
      </section>
      <p v-if="triage.findings" class="mt-3">
        <router-link class="app-link" :to="{ name: 'findings', params: { recording } }">All {{ count(triage.findings, 'finding', 'findings') }}</router-link>
      </p>

      <div class="charts mt-3">
        <v-card class="pa-3">
          <div class="head">
            <h2>Alive over time</h2>
            <router-link class="app-link" :to="{ name: 'disposal', params: { recording } }">Disposal</router-link>
            <v-spacer />
            <ExportMenu v-if="disposal" name="alive" :data="disposal.alive" :png="() => aliveChart?.png()" />
          </div>
          <ChartBox v-if="rising.length" ref="aliveChart" :height="200 + legendHeight(rising.length)" :option="aliveOption" :label="aliveLabel" name="alive" />
          <p v-else class="quiet">No instances yet.</p>
        </v-card>
        <v-card class="pa-3">
          <div class="head">
            <h2>Scopes a second</h2>
            <router-link class="app-link" :to="{ name: 'scopes', params: { recording } }">Scopes</router-link>
          </div>
          <ChartBox v-if="disposal?.opened.length" :option="rateOption" :label="`Scopes opened a second over time; ${rounded(detail.figures.scopes)} in all`" name="scopes" />
          <p v-else class="quiet">No scopes yet.</p>
        </v-card>
        <v-card class="pa-3">
          <h2 class="mb-2">Findings by family</h2>
          <p v-if="!perFamily.length" class="quiet">Nothing was found.</p>
          <ul class="families">
            <li v-for="f in perFamily" :key="f.name">
              <router-link class="app-link" :to="{ name: 'findings', params: { recording }, query: { family: f.name } }">{{ f.name }}</router-link>
              <span class="bar" :style="{ width: `${(100 * f.findings) / Math.max(...perFamily.map((p) => p.findings))}%` }" />
              <span class="num">{{ f.findings }}</span>
            </li>
          </ul>
        </v-card>
      </div>

      <section class="mt-5">
        <h2 class="mb-2">Streams</h2>
        <StreamTable :streams="detail.stream_list" />
      </section>
      <RecordingCare class="mt-5" :recording="detail" @changed="here.refresh" />
      <CommandLine class="mt-4" :command="`keenlantern findings ${detail.id}`" />
    </template>
  </main>
</template>

<style scoped>
.sentence {
  margin: 4px 0 0;
  font-size: 1.15rem;
  font-weight: 600;
}
.cards {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(300px, 1fr));
  gap: 16px;
}
.charts {
  display: grid;
  grid-template-columns: 5fr 4fr 3fr;
  gap: 16px;
}
@media (max-width: 1100px) {
  .charts {
    grid-template-columns: 1fr;
  }
}
.head {
  display: flex;
  align-items: center;
  gap: 12px;
  margin-bottom: 4px;
}
.families {
  list-style: none;
  display: grid;
  gap: 6px;
}
.families li {
  display: grid;
  grid-template-columns: 80px 1fr auto;
  align-items: center;
  gap: 8px;
}
.bar {
  height: 12px;
  border-radius: 2px;
  background: rgb(var(--v-theme-life));
}
</style>
