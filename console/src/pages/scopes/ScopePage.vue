<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { watchDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'

import type { Story, Thing } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import CopyButton from '@/components/CopyButton.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import MarkTag from '@/components/MarkTag.vue'
import PageState from '@/components/PageState.vue'
import RegLink from '@/components/RegLink.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import TimeText from '@/components/TimeText.vue'
import { useNames } from '@/composables/useNames'
import { useQuery } from '@/composables/useQuery'
import { useView } from '@/composables/useView'
import { count, nameOf, took, whole } from '@/format'

import ConstructionChart from './ConstructionChart.vue'

const names = useNames()
const props = defineProps<{ recording: string; scope: string }>()
const { number, text, flag, set } = useQuery()
const chosen = number('instance', 0, 'replace')
// What was built is paged: a start-up may build thousands.
const page = number('page', 1)
const rows = 200
// Of what was built many times in one place, one row is enough, unless each is asked for.
const sought = text('built', '', 'replace')
const typed = ref(sought.value)
watchDebounced(typed, (value) => (sought.value = value ?? ''), { debounce: 250 })
const each = flag('each')
const { data, error, loading, refresh } = useView(() => props.recording, 'scopes/{scope}', () => ({ scope: props.scope, service: sought.value || undefined, once: !each.value, limit: rows, offset: (page.value - 1) * rows }))
const longest = computed(() => (data.value?.built ?? []).filter((b) => b.longest).map((b) => `${names.of(b.of)} (${took(b.took_ns)})`).join(' → '))
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))
const s = computed(() => data.value?.scope)
const is = (t: Thing) => ({ chosen: t.instance === chosen.value })
const columns = [
  { title: 'instance', value: (b: Story['built'][number]) => b.instance },
  { title: 'of', value: (b: Story['built'][number]) => nameOf(b.of) },
  { title: 'from_ns', value: (b: Story['built'][number]) => b.from },
  { title: 'took_ns', value: (b: Story['built'][number]) => b.took_ns },
  { title: 'own_ns', value: (b: Story['built'][number]) => b.own_ns },
]
</script>

<template>
  <main class="page">
    <router-link class="app-link" :to="{ name: 'scopes', params: { recording } }">Scopes</router-link>
    <PageState class="mt-2" :error="error" :loading="loading && !data" what="the scope's story" @retry="refresh" />
    <template v-if="data && s">
      <div class="head">
        <h1>{{ s.root ? 'The root: built outside any other scope' : `Scope ${scope} ${s.name}` }}</h1>
        <ExportMenu name="scope" :data="data" :columns="columns" :rows="data.built" />
      </div>
      <p class="quiet">
        {{ s.kind }}<template v-if="!s.root"> in <ScopeLink :scope="s.in" :stream="s.stream" /></template> · began <TimeText :at="s.began" /> ·
        <span :title="`${s.took_ns} ns`">{{ s.open ? 'open for' : 'took' }} {{ took(s.took_ns) }}</span> ·
        {{ count(s.made, 'instance made', 'instances made') }}<template v-if="!s.root"> in {{ took(s.built_ns) }}</template> · {{ count(s.uses, 'use', 'uses') }}
        <template v-if="s.findings"> · <strong>◆ {{ count(s.findings, 'occurrence of a finding', 'occurrences of findings') }}</strong></template>
        <template v-if="s.trace"> · trace <span class="code">{{ s.trace }}</span><CopyButton :text="s.trace" what="the trace id" /></template>
      </p>
      <v-alert v-if="data.cut" type="info" density="compact" class="mt-2">{{ data.cut }}</v-alert>

      <v-card class="pa-3 mt-3">
        <h2>What was built, and in what</h2>
        <div class="tools mb-2">
          <v-text-field v-model="typed" class="seek" density="compact" variant="outlined" hide-details clearable label="Look for" :prepend-inner-icon="mdiMagnify" data-seek-built />
          <v-switch v-if="each || data.built.some((b) => b.times > 1)" v-model="each" density="compact" hide-details color="primary" label="each construction by itself" />
          <span class="quiet">{{ count(data.total, 'row', 'rows') }}</span>
        </div>
        <p v-if="longest" class="quiet mb-2" data-longest>The longest path: {{ longest }}</p>
        <p v-if="!data.built.length" class="quiet">{{ sought ? 'Nothing of this name was built in this scope.' : 'Nothing was built in this scope.' }}</p>
        <ConstructionChart v-else :story="data" :chosen="chosen" @choose="(i: number, zoom: string) => set({ instance: String(i), zoom }, 'replace')" />
        <v-pagination v-if="pages > 1" v-model="page" :length="pages" density="comfortable" class="mt-3" />
      </v-card>
      <v-card v-if="data.built.length" class="mt-3">
        <v-table hover density="compact" class="scroll" data-built>
          <thead><tr><th class="num">From</th><th>Built</th><th>Instance</th><th>For</th><th>With</th><th class="num">Took</th><th class="num">Own</th></tr></thead>
          <tbody>
            <tr v-for="b in data.built" :key="b.instance" :class="is(b)">
              <td class="num" :title="`${b.from} ns`">{{ took(b.from) }}</td>
              <td><span class="quiet" aria-hidden="true">{{ b.depth > 6 ? `${b.depth} · ` : '· '.repeat(b.depth) }}</span><RegLink :of="b.of" lifetime /><strong v-if="b.times > 1" class="ml-2 num" :title="`${whole(b.times)} constructions, the first of which is shown`">× {{ whole(b.times) }}</strong><span v-if="b.longest" class="ml-2" title="on the path that took longest">◆</span></td>
              <td><MarkTag :mark="b.mark" :instance="b.instance" :stream="s.stream" /></td>
              <td><template v-if="b.for"><RegLink :of="b.for.of" /> <MarkTag :mark="b.for.mark" :instance="b.for.instance" :stream="s.stream" /></template><template v-else>{{ b.entry || '–' }}</template></td>
              <td><MarkTag v-for="w in b.with" :key="w.instance" class="mr-1" :title="nameOf(w.of)" :mark="w.mark" :instance="w.instance" :stream="s.stream" /></td>
              <td class="num" :title="`${b.took_ns} ns`">{{ took(b.took_ns) }}<div v-if="b.times > 1" class="quiet">{{ took(b.all_ns) }} in all</div></td>
              <td class="num" :title="`${b.own_ns} ns`">{{ took(b.own_ns) }}</td>
            </tr>
          </tbody>
        </v-table>
      </v-card>

      <div class="parts mt-4">
        <section>
          <h2 class="mb-1">From outside</h2>
          <v-card>
            <p v-if="!data.outside.length" class="pa-3 quiet">Nothing came from outside.</p>
            <v-table v-else>
              <thead><tr><th>What</th><th>Instance</th><th>Keeps</th><th class="num">First at</th><th class="num">Uses</th></tr></thead>
              <tbody>
                <tr v-for="o in data.outside" :key="o.instance" :class="is(o)">
                  <td><RegLink :of="o.of" lifetime /></td>
                  <td><MarkTag :mark="o.mark" :instance="o.instance" :stream="s.stream" /></td>
                  <td><span v-for="w in o.with" :key="w.instance" class="mr-2"><RegLink :of="w.of" /> <MarkTag :mark="w.mark" :instance="w.instance" :stream="s.stream" /></span></td>
                  <td class="num" :title="`${o.at} ns`">{{ took(o.at) }}</td>
                  <td class="num">{{ whole(o.uses) }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </section>
        <section>
          <h2 class="mb-1">Used</h2>
          <v-card>
            <p v-if="!data.used.length" class="pa-3 quiet">No use was seen.</p>
            <v-table v-else>
              <thead><tr><th>What</th><th>Instance</th><th>By</th><th class="num">Times</th><th class="num">First – last</th></tr></thead>
              <tbody>
                <tr v-for="(u, n) in data.used" :key="n" :class="is(u)">
                  <td><RegLink :of="u.of" /></td>
                  <td><MarkTag :mark="u.mark" :instance="u.instance" :stream="s.stream" /></td>
                  <td><MarkTag v-if="u.by" :mark="u.by.mark" :instance="u.by.instance" :stream="s.stream" /> <span class="quiet">{{ u.by ? names.of(u.by.of) : 'not seen' }}</span></td>
                  <td class="num">{{ whole(u.count) }}</td>
                  <td class="num" :class="{ after: u.after }">{{ took(u.first) }} – {{ took(u.last) }}{{ u.after ? ' ✕ after its end' : '' }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </section>
        <section>
          <h2 class="mb-1">Disposed, in this order</h2>
          <v-card>
            <p v-if="!data.disposed.length" class="pa-3 quiet">No disposal was seen.</p>
            <v-table v-else>
              <thead><tr><th class="num">At</th><th>What</th><th>Instance</th><th>By</th><th class="num">Took</th><th>State</th></tr></thead>
              <tbody>
                <tr v-for="(d, n) in data.disposed" :key="n" :class="is(d)">
                  <td class="num">{{ took(d.at) }}</td>
                  <td><RegLink :of="d.of" /></td>
                  <td><MarkTag :mark="d.mark" :instance="d.instance" :stream="s.stream" /></td>
                  <td>{{ d.by || '–' }}</td>
                  <td class="num">{{ took(d.ns) }}</td>
                  <td>{{ d.state }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </section>
        <section>
          <h2 class="mb-1">Left over</h2>
          <v-card class="pa-3">
            <p v-if="!data.left.length" class="quiet">Everything that has to be disposed was disposed.</p>
            <div v-for="l in data.left" :key="l.instance" :class="is(l)"><MarkTag :mark="l.mark" :instance="l.instance" :stream="s.stream" /> <RegLink :of="l.of" full /></div>
            <template v-if="data.inner.length">
              <h3 class="mt-3">Scopes opened in it</h3>
              <span v-for="i in data.inner" :key="i" class="mr-3"><ScopeLink :scope="i" :stream="s.stream" /></span>
            </template>
          </v-card>
        </section>
      </div>
      <CommandLine class="mt-4" :command="`keenlantern scope ${recording} ${scope}`" />
    </template>
  </main>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 16px;
}
.seek {
  flex: 0 1 300px;
  min-width: 200px;
}
.head {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 12px;
}
.parts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 620px), 1fr));
  gap: 20px;
}
.chosen {
  background: rgba(var(--v-theme-link), 0.14);
  outline: 1.5px solid rgb(var(--v-theme-link));
}
.after {
  font-weight: 700;
  color: rgb(var(--v-theme-error));
}
h3 {
  font-size: 0.9rem;
  font-weight: 600;
}
</style>
