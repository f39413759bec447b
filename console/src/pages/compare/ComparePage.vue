<script setup lang="ts">
import { mdiSwapHorizontal } from '@mdi/js'
import { computed, watch } from 'vue'

import { api } from '@/api/client'
import type { Comparison, Ref } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import PlaceText from '@/components/PlaceText.vue'
import SeverityTag from '@/components/SeverityTag.vue'
import { useFetched } from '@/composables/useFetched'
import { provideNames } from '@/composables/useNames'
import { useQuery } from '@/composables/useQuery'
import type { Column } from '@/download'
import { count, localTime, nameOf, rounded, took, whole } from '@/format'
import { placesOf } from '@/pages/findings/findings'

const { text, number, set } = useQuery()
const a = text('a')
const b = text('b')
const { data: list } = useFetched(() => [], (signal: AbortSignal) => api.recordings(200, 0, signal))
const options = computed(() =>
  (list.value?.recordings ?? []).map((r) => ({ title: `${r.name || `${r.app} ${r.version}`} · ${r.id} · ${localTime(r.start)}`, value: r.id })),
)
// With one side chosen, the recording before it of the same application is the likely other one.
watch([b, list], () => {
  if (!b.value || a.value || !list.value) return
  const at = b.value === 'latest' ? 0 : list.value.recordings.findIndex((r) => r.id === b.value)
  const before = list.value.recordings.slice(at + 1).find((r) => r.app === list.value!.recordings[at]?.app)
  if (before) set({ a: before.id }, 'replace')
})
// The names of both recordings, each shown as short as it stays different from the others.
const names = provideNames(() => `${a.value} ${b.value}`)
/** How many of each part are listed before more are asked for. */
const few = 30
const limit = number('rows', few, 'replace')
const { data, error, loading, refresh } = useFetched(
  () => [a.value, b.value, limit.value] as const,
  async (one: string, two: string, rows: number, signal: AbortSignal): Promise<Comparison | undefined> => {
    if (!one || !two) return undefined
    const answer = await api.compare(one, two, rows, signal)
    names.learn(answer)
    return answer
  },
)
const cut = computed(() => {
  const d = data.value
  return !!d && [d.new.length < d.totals.new, d.gone.length < d.totals.gone, d.still.length < d.totals.still, d.registrations.length < d.totals.registrations, d.verdicts.length < d.totals.verdicts, d.answers.length < d.totals.answers, d.costs.length < d.totals.costs].some(Boolean)
})
const groups = computed(() => [
  { name: 'New', sign: '+', what: 'in the second and not in the first', list: data.value?.new ?? [], all: data.value?.totals.new ?? 0, side: 'b' },
  { name: 'Gone', sign: '−', what: 'in the first and not in the second', list: data.value?.gone ?? [], all: data.value?.totals.gone ?? 0, side: 'a' },
  { name: 'Still there', sign: '=', what: 'in both', list: data.value?.still ?? [], all: data.value?.totals.still ?? 0, side: 'b' },
])
const recordingOf = (side: string) => (side === 'a' ? data.value?.a.recording : data.value?.b.recording) ?? ''
const registration = (of: Ref, side: string) => ({ name: 'registrations', params: { recording: recordingOf(side) }, query: { service: of.service } })
const most = computed(() => Math.max(1, ...(data.value?.costs ?? []).map((c) => Math.abs(change(c)))))
function change(c: Comparison['costs'][number]): number {
  return c.b - c.a
}
const figure = (c: Comparison['costs'][number], v: number) => (c.figure === 'own_ns' ? took(Math.round(v)) : rounded(v))
const columns: Column<Comparison['costs'][number]>[] = [
  { title: 'scopes_of', value: (c) => c.name },
  { title: 'registration', value: (c) => nameOf(c.of) },
  { title: 'figure', value: (c) => c.figure },
  { title: 'a_per_thousand', value: (c) => c.a },
  { title: 'b_per_thousand', value: (c) => c.b },
  { title: 'sure', value: (c) => c.sure },
]
function halves() {
  if (b.value) set({ a: `${b.value.split('@')[0]}@first-half`, b: `${b.value.split('@')[0]}@second-half` })
}
</script>

<template>
  <main class="page">
    <h1 class="mb-3">Compare</h1>
    <div class="sides">
      <v-combobox v-model="a" class="side" density="compact" variant="outlined" hide-details label="First: a recording" :items="options" item-title="title" item-value="value" :return-object="false" data-side-a />
      <v-btn :icon="mdiSwapHorizontal" aria-label="Change sides" title="Change sides" @click="set({ a: b, b: a })" />
      <v-combobox v-model="b" class="side" density="compact" variant="outlined" hide-details label="Second: a recording" :items="options" item-title="title" item-value="value" :return-object="false" data-side-b />
      <v-btn variant="outlined" :disabled="!b" @click="halves">Its own halves</v-btn>
    </div>
    <p v-if="!a || !b" class="quiet mt-3">Choose two recordings, or parts of one as <span class="code">latest@first-half</span> or <span class="code">latest@version=1.2</span>.</p>
    <PageState class="mt-3" :error="error" :loading="loading && !data && !!a && !!b" what="both recordings" @retry="refresh" />
    <template v-if="data">
      <div class="head mt-3">
        <p class="sentence" data-compared>
          {{ count(data.totals.new, 'finding is', 'findings are') }} new, {{ whole(data.totals.gone) }} gone, {{ whole(data.totals.still) }} still there;
          {{ count(data.totals.registrations, 'registration has', 'registrations have') }} changed.
        </p>
        <ExportMenu name="compare" :data="data" :columns="columns" :rows="data.costs" />
      </div>
      <p class="quiet">
        {{ data.a.app }} {{ data.a.version }} {{ data.a.recording }} {{ data.a.part }} ({{ whole(data.a.scopes) }} scopes) → {{ data.b.app }} {{ data.b.version }} {{ data.b.recording }} {{ data.b.part }} ({{ whole(data.b.scopes) }} scopes)
      </p>
      <section v-for="g in groups" :key="g.name" class="mt-4" :data-group="g.name">
        <h2 class="mb-1">{{ g.sign }} {{ g.name }} <span class="quiet kind">{{ whole(g.all) }}, {{ g.what }}{{ g.list.length < g.all ? `; the first ${g.list.length} are listed` : '' }}</span></h2>
        <v-card v-if="g.list.length">
          <v-table class="shares">
            <colgroup><col style="width: 126px" /><col /><col style="width: 32%" /></colgroup>
            <tbody>
              <tr v-for="f in g.list" :key="f.id">
                <td><SeverityTag :severity="f.severity" /></td>
                <td class="py-1"><router-link class="app-link" :to="{ name: 'finding', params: { recording: recordingOf(g.side), finding: f.id } }" :title="f.title">{{ names.prose(f.title) }}</router-link><div class="quiet small">{{ f.rule }}</div></td>
                <td><div v-for="at in placesOf(f)" :key="at"><PlaceText :at="at" plain /></div></td>
              </tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <section class="mt-4">
        <h2 class="mb-1">Registrations</h2>
        <p v-if="!data.registrations.length" class="quiet">Nothing was added, removed or changed.</p>
        <v-card v-else>
          <v-table>
            <thead><tr><th>Change</th><th>Registration</th><th>What</th></tr></thead>
            <tbody>
              <tr v-for="(r, n) in data.registrations" :key="n">
                <td>{{ { added: '+ added', removed: '− removed', changed: '≠ changed' }[r.change] ?? r.change }}</td>
                <td class="py-1"><router-link class="app-link" :to="registration(r.of, r.change === 'removed' ? 'a' : 'b')">{{ names.of(r.of) }}</router-link><div class="quiet small">{{ r.of.implementation ? names.type(r.of.implementation) : '' }} <PlaceText v-if="r.of.at" :at="r.of.at" plain /></div></td>
                <td><div v-for="f in r.fields" :key="f.name">{{ f.name }}: {{ f.a ? names.prose(f.a) : 'none' }} → {{ f.b ? names.prose(f.b) : 'none' }}</div></td>
              </tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <section v-if="data.verdicts.length" class="mt-4">
        <h2 class="mb-1">Did not behave as registered</h2>
        <v-card>
          <v-table>
            <tbody>
              <tr v-for="(v, n) in data.verdicts" :key="n"><td><router-link class="app-link" :to="registration(v.of, 'b')">{{ names.of(v.of) }}</router-link></td><td :title="v.a.why">{{ v.a.as }}</td><td>→</td><td :title="v.b.why">{{ v.b.as }}</td></tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <section v-if="data.answers.length" class="mt-4" data-answers>
        <h2 class="mb-1">Answered by another key or implementation</h2>
        <v-card>
          <v-table>
            <tbody>
              <tr v-for="(moved, n) in data.answers" :key="n"><td>{{ moved.consumer }}<span v-if="moved.site" class="quiet"> ({{ moved.site }})</span></td><td>asks for {{ moved.service }}</td><td>{{ moved.a.join(', ') }}</td><td>→</td><td>{{ moved.b.join(', ') }}</td></tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <section class="mt-4">
        <h2 class="mb-1">Counts and costs <span class="quiet kind">per thousand scopes with this name</span></h2>
        <p v-if="!data.costs.length" class="quiet">No difference.</p>
        <v-card v-else>
          <v-table hover>
            <thead><tr><th>Scopes</th><th>Registration</th><th>Figure</th><th class="num">First</th><th class="num">Second</th><th class="diff">Difference</th><th>How sure</th></tr></thead>
            <tbody>
              <tr v-for="(c, n) in data.costs.slice(0, 100)" :key="n" :class="{ quiet: c.sure === 'within chance' }">
                <td>{{ c.name || 'the root' }}</td>
                <td><router-link class="app-link" :to="registration(c.of, 'b')">{{ names.of(c.of) }}</router-link></td>
                <td>{{ c.figure === 'own_ns' ? 'own time' : 'instances' }}</td>
                <td class="num">{{ figure(c, c.a) }}</td>
                <td class="num">{{ figure(c, c.b) }}</td>
                <td class="diff"><span class="centre"><span :class="['bar', change(c) < 0 ? 'less' : 'more']" :style="{ width: `${Math.max(1, 50 * Math.sqrt(Math.abs(change(c)) / most))}%` }" /></span><span class="num">{{ change(c) < 0 ? '−' : '+' }}{{ figure(c, Math.abs(change(c))) }}</span></td>
                <td>{{ c.sure }}<span v-if="c.margin" class="quiet" title="the margin that chance leaves"> ± {{ figure(c, c.margin) }}</span></td>
              </tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <v-btn v-if="cut && limit === few" variant="outlined" class="mt-3" data-more @click="limit = 1000">Show up to 1000 of each</v-btn>
      <CommandLine class="mt-4" :command="`keenlantern compare ${a} ${b}`" />
    </template>
  </main>
</template>

<style scoped>
.sides,
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}
.side {
  flex: 1 1 320px;
  max-width: 560px;
}
.head {
  justify-content: space-between;
}
.sentence {
  font-size: 1.1rem;
  font-weight: 600;
}
.kind {
  font-size: 0.8rem;
  font-weight: 400;
}
.small {
  font-size: 0.8rem;
}
.diff {
  width: 24%;
}
td.diff {
  white-space: nowrap;
}
.centre {
  position: relative;
  display: inline-block;
  width: 120px;
  height: 10px;
  margin-right: 10px;
  background: linear-gradient(rgb(var(--v-theme-life)), rgb(var(--v-theme-life))) center / 1px 100% no-repeat;
}
.bar {
  position: absolute;
  top: 1px;
  height: 8px;
  background: rgb(var(--v-theme-life));
}
.more {
  left: 50%;
}
.less {
  right: 50%;
  background: none;
  border: 1.5px solid rgb(var(--v-theme-life));
}
</style>
