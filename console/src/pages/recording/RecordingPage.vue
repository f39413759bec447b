<script setup lang="ts">
import { computed, useTemplateRef } from 'vue'

import ChartBox, { type Colours } from '@/components/chart/ChartBox.vue'
import { linesOverTime, overTime } from '@/components/chart/options'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import { useHere, useView } from '@/composables/useView'
import { count, healthOf, nameOf, rounded } from '@/format'

import FindingCard from './FindingCard.vue'
import RecordingCare from './RecordingCare.vue'
import StreamTable from './StreamTable.vue'
import { families, useFindings } from './findings'

const props = defineProps<{ recording: string }>()
const here = useHere()!
const detail = here.detail
const { data: findings, error, loading, refresh } = useFindings(() => props.recording)
const { data: disposal } = useView(() => props.recording, 'disposal', () => ({ limit: 5 }))
// Where the service holds none, there is nothing to say.
const { data: contract } = useView(() => props.recording, 'contract', () => ({}))
const agreed = computed(() => {
  const c = contract.value
  if (!c) return ''
  if (c.broken) return `◆ The contract is broken in ${count(c.broken, 'clause', 'clauses')}.`
  return `✓ The contract is kept${c.not_seen ? `; ${count(c.not_seen, 'clause was', 'clauses were')} not seen` : ''}.`
})

const first = computed(() => (findings.value ?? []).filter((f) => f.severity === 'error' && !f.because).slice(0, 3))
const follow = computed(() => (findings.value ?? []).filter((f) => f.because).length)
const perFamily = computed(() => families(findings.value ?? []))

const sentence = computed(() => {
  const d = detail.value
  if (!d) return ''
  const errors = (findings.value ?? []).filter((f) => f.severity === 'error' && !f.because).length
  const scopes = `${count(d.figures.scopes, 'scope', 'scopes')}, ${healthOf(d.health)}`
  if (!findings.value?.length) return `Nothing found; ${scopes}.`
  const after = follow.value ? `, ${follow.value} that ${follow.value === 1 ? 'follows' : 'follow'} from ${errors === 1 ? 'it' : 'them'}` : ''
  if (!errors) return `No errors, ${count(findings.value.length, 'lesser finding', 'lesser findings')}; ${scopes}.`
  return `${count(errors, 'mistake', 'mistakes')} to fix first${after}; ${scopes}.`
})

// What grows is shown before what is merely many.
const rising = computed(() => [...(disposal.value?.alive ?? [])].sort((a, b) => b.alive - a.alive).slice(0, 5))
const aliveOption = computed(() => {
  const step = disposal.value?.width_ns ?? 1
  const lines = rising.value.map((r) => ({ name: nameOf(r.of), points: overTime(r.series, step) }))
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
    <PageState :error="error" :loading="loading && !findings" what="the findings" @retry="refresh" />
    <template v-if="detail && findings">
      <p class="sentence" data-sentence>{{ sentence }}</p>
      <p v-if="contract" class="mb-3" data-contract>
        <router-link class="app-link" :to="{ name: 'contract', params: { recording } }">{{ agreed }}</router-link>
      </p>

      <section v-if="first.length" class="cards mt-3" aria-label="What to look at first">
        <FindingCard v-for="f in first" :key="f.id" :finding="f" :recording="detail.id" />
      </section>
      <p v-if="findings.length" class="mt-3">
        <router-link class="app-link" :to="{ name: 'findings', params: { recording } }">All {{ count(findings.length, 'finding', 'findings') }}</router-link>
      </p>

      <div class="charts mt-3">
        <v-card class="pa-3">
          <div class="head">
            <h2>Alive over time</h2>
            <router-link class="app-link" :to="{ name: 'disposal', params: { recording } }">Disposal</router-link>
            <v-spacer />
            <ExportMenu v-if="disposal" name="alive" :data="disposal.alive" :png="() => aliveChart?.png()" />
          </div>
          <ChartBox v-if="rising.length" ref="aliveChart" :option="aliveOption" :label="aliveLabel" name="alive" />
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
              <span class="bar" :style="{ width: `${(130 * f.n) / Math.max(...perFamily.map((p) => p.n))}px` }" />
              <span class="num">{{ f.n }}</span>
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
  grid-template-columns: 90px 1fr 30px;
  align-items: center;
  gap: 8px;
}
.bar {
  height: 12px;
  border-radius: 2px;
  background: rgb(var(--v-theme-life));
}
</style>
