<script setup lang="ts">
import { mdiArrowRight } from '@mdi/js'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api } from '@/api/client'
import CommandLine from '@/components/CommandLine.vue'
import CopyButton from '@/components/CopyButton.vue'
import MarkTag from '@/components/MarkTag.vue'
import PageState from '@/components/PageState.vue'
import SeverityTag from '@/components/SeverityTag.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import SourceRef from '@/components/SourceRef.vue'
import TimeText from '@/components/TimeText.vue'
import { useFetched } from '@/composables/useFetched'
import { useNames } from '@/composables/useNames'
import { useHere, useView } from '@/composables/useView'
import { whole } from '@/format'

import AliveEvidence from './AliveEvidence.vue'
import EvidenceDrawing from './EvidenceDrawing.vue'
import EvidenceTable from './EvidenceTable.vue'
import KeysEvidence from './KeysEvidence.vue'
import LayersEvidence from './LayersEvidence.vue'

const props = defineProps<{ recording: string; finding: string }>()
const route = useRoute()
const names = useNames()
const router = useRouter()
const { data, error, loading, refresh } = useView(() => props.recording, 'findings/{finding}', () => ({ finding: props.finding }))

const { data: rules } = useFetched(() => [], (signal: AbortSignal) => api.rules(signal))
const help = computed(() => rules.value?.rules.find((r) => r.id === data.value?.rule))
// Examples name their stream; addresses count them.
const here = useHere()
const streamOf = (name: string) => Math.max(0, here?.detail.value?.stream_list.findIndex((s) => s.stream === name) ?? 0)

const way = computed(() => {
  const f = data.value
  if (!f) return []
  const keeps = f.rule.startsWith('captive/')
  const refs = f.path.length ? f.path : [...(f.holder ? [f.holder] : []), f.subject]
  return refs.map((of, n) => ({
    of,
    role: n === refs.length - 1 ? (keeps && f.holder ? 'what is kept' : 'what it is about') : n > 0 ? 'by way of' : keeps ? 'who keeps it' : 'who is given it',
  }))
})

const chosen = computed(() => Math.min(Math.max(0, Number(route.query.example) || 0), Math.max(0, (data.value?.examples.length ?? 1) - 1)))
const example = computed(() => data.value?.examples[chosen.value])
const evidence = computed(() => example.value?.evidence)
const trueToScale = computed(() => route.query.scale === 'true')
const counts = computed(() => Object.entries(data.value?.counts ?? {}).filter(([, n]) => n !== 0))
const marks = computed(() => new Map(evidence.value?.lives.map((l) => [l.instance, l.mark])))
const command = computed(() => `keenlantern finding ${data.value?.id} --recording ${data.value?.recording}`)

function set(name: string, value: string | undefined) {
  const query = { ...route.query }
  if (value === undefined) delete query[name]
  else query[name] = value
  void router.replace({ query })
}
</script>

<template>
  <main class="page">
    <router-link class="app-link" :to="{ name: 'findings', params: { recording } }">The recording's findings</router-link>
    <PageState class="mt-3" :error="error" :loading="loading && !data" what="the finding" @retry="refresh" />
    <template v-if="data">
      <div class="top mt-2">
        <SeverityTag :severity="data.severity" />
        <router-link class="app-link" :to="{ name: 'settings', query: { rule: data.rule } }" :title="help ? `Reports: ${help.reports} Not: ${help.not}` : 'What the rule reports'" data-rule-link>{{ data.rule }}</router-link>
        <span class="quiet">{{ data.basis }}</span>
        <span class="code quiet">{{ data.id }}</span><CopyButton :text="data.id" what="the finding's id" />
      </div>
      <h1 class="mt-1" :title="data.title">{{ names.prose(data.title) }}</h1>

      <div class="way mt-3">
        <template v-for="(step, n) in way" :key="n">
          <v-icon v-if="n" class="align-self-center" :icon="mdiArrowRight" title="leads to" />
          <v-card class="px-3 py-2 step"><SourceRef :of="step.of" :role="step.role" /></v-card>
        </template>
      </div>

      <div class="told mt-3">
        <section>
          <h2>Why</h2>
          <p>{{ names.prose(data.why) }}</p>
        </section>
        <section>
          <h2>What to change</h2>
          <p>{{ names.prose(data.fix) }}</p>
        </section>
      </div>
      <v-alert v-if="data.caveat" type="warning" class="mt-4" density="compact">{{ names.prose(data.caveat) }}</v-alert>

      <KeysEvidence v-if="data.rule.startsWith('keys/')" :key="`k${data.id}`" :finding="data" />
      <LayersEvidence v-if="data.rule.startsWith('layers/')" :key="`l${data.id}`" :finding="data" />
      <v-card v-if="evidence && example" class="mt-4 px-4 py-3">
        <div class="top mb-2">
          <h2>The evidence in time</h2>
          <span v-if="example.scope !== null" class="quiet"><ScopeLink :scope="example.scope" :name="example.scope_name" :stream="streamOf(example.stream ?? '')" :mark="example.instances[0]" />, line {{ whole(example.line) }}</span>
          <v-spacer />
          <v-btn-toggle :model-value="trueToScale" density="compact" variant="outlined" mandatory @update:model-value="(v: boolean) => set('scale', v ? 'true' : undefined)">
            <v-btn :value="false">Even out quiet times</v-btn>
            <v-btn :value="true">True to scale</v-btn>
          </v-btn-toggle>
        </div>
        <EvidenceDrawing :evidence="evidence" :true-to-scale="trueToScale" />
        <v-expansion-panels class="mt-3" flat variant="accordion">
          <v-expansion-panel title="The same as a table">
            <template #text><EvidenceTable :evidence="evidence" /></template>
          </v-expansion-panel>
        </v-expansion-panels>
      </v-card>

      <AliveEvidence v-if="data.rule.startsWith('disposal/')" :key="`a${data.id}`" :finding="data" />

      <div class="told mt-5">
        <section>
          <h2 class="mb-1">Examples</h2>
          <v-card>
            <v-list density="compact" nav aria-label="Examples">
              <v-list-item v-for="(e, n) in data.examples" :key="n" :active="n === chosen" @click="set('example', n ? String(n) : undefined)">
                <MarkTag v-for="i in e.instances.slice(0, 3)" :key="i" class="mr-2" :mark="marks.get(i) ?? `#${i}`" :instance="i" plain />
                <span v-if="e.scope !== null">scope {{ e.scope }} {{ e.scope_name }}</span>
                <span class="quiet"> line {{ whole(e.line) }}</span>
              </v-list-item>
            </v-list>
          </v-card>
        </section>
        <section>
          <h2 class="mb-1">Counts</h2>
          <v-card>
            <v-table>
              <tbody>
                <tr v-for="[name, n] in counts" :key="name">
                  <td>{{ name.replaceAll('_', ' ') }}</td>
                  <td class="num">{{ whole(n) }}</td>
                </tr>
                <tr>
                  <td>first seen</td>
                  <td class="num"><TimeText :at="data.first" /></td>
                </tr>
                <tr>
                  <td>last seen</td>
                  <td class="num"><TimeText :at="data.last" /></td>
                </tr>
                <tr v-for="(list, what) in data.facts" :key="what">
                  <td>{{ String(what).replaceAll('_', ' ') }}</td>
                  <td class="facts" :title="list.join(', ')">{{ list.map(names.prose).join(', ') }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </section>
      </div>
      <v-expansion-panels v-if="help" class="mt-5" variant="accordion" flat data-help>
        <v-expansion-panel :title="`What ${data.rule} reports, and what it does not`">
          <template #text>
            <p>{{ help.reports }}</p>
            <p class="quiet">Not: {{ help.not }}</p>
          </template>
        </v-expansion-panel>
      </v-expansion-panels>
      <CommandLine class="mt-4" :command="command" />
    </template>
  </main>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}
.way {
  display: flex;
  flex-wrap: wrap;
  align-items: stretch;
  gap: 10px;
}
.step {
  min-width: 200px;
  max-width: 420px;
}
.told {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(420px, 1fr));
  gap: 24px;
}
.facts {
  text-align: right;
  overflow-wrap: anywhere;
}
p {
  margin: 2px 0 0;
  overflow-wrap: anywhere;
}
</style>
