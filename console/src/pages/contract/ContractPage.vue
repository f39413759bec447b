<script setup lang="ts">
import { mdiFileDocumentEditOutline } from '@mdi/js'
import { computed, ref, shallowRef } from 'vue'

import { Problem } from '@/api/client'
import type { ContractReport, Judgement } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import { useQuery } from '@/composables/useQuery'
import { useHere, useView } from '@/composables/useView'
import type { Column } from '@/download'

import AcceptedList from './AcceptedList.vue'
import BrokenClause from './BrokenClause.vue'
import ContractEditor from './ContractEditor.vue'

const props = defineProps<{ recording: string }>()
const here = useHere()
const app = computed(() => here?.detail.value?.app ?? '')
const { data: held, error, loading, refresh } = useView(() => props.recording, 'contract', () => ({}))
const none = computed(() => error.value?.status === 404)

const { text } = useQuery()
const only = text('only') // a status, in the address

// What is being written is judged without being held.
const writing = ref(false)
const tried = shallowRef<ContractReport>()
const report = computed(() => (writing.value ? tried.value : undefined) ?? held.value)
function wrote(saved: boolean) {
  if (!saved) return
  writing.value = false
  tried.value = undefined
  void refresh()
}

const signs = { broken: '◆', 'not seen': '○', kept: '✓' } as const
const words = { broken: 'broken', 'not seen': 'not seen', kept: 'kept' } as const
const statuses = ['broken', 'not seen', 'kept'] as const
const of = (status: Judgement['status']) => (report.value?.clauses ?? []).filter((c) => c.status === status)
const shown = computed(() => statuses.filter((s) => (!only.value || only.value === s) && of(s).length))
const columns: Column<Judgement>[] = [
  { title: 'status', value: (c) => c.status },
  { title: 'kind', value: (c) => c.kind },
  { title: 'clause', value: (c) => c.says },
  { title: 'why', value: (c) => c.why },
  { title: 'line', value: (c) => c.line },
]
const problem = computed(() => (none.value ? undefined : error.value && new Problem(error.value.title, error.value.detail, error.value.status)))
</script>

<template>
  <main class="page">
    <h1>Contract</h1>
    <p class="quiet mb-3">What was agreed on for {{ app }}, clause by clause: kept, broken, or not seen in this recording.</p>
    <PageState :error="problem" :loading="loading && !held && !none" what="the contract" @retry="refresh" />

    <v-card v-if="none && !writing" class="pa-4" data-none>
      <h2>The service holds no contract for {{ app }}</h2>
      <p class="my-2">
        A contract is a YAML file that says who is given what, how long instances live, who disposes them, and which findings are accepted. Draft one from a
        recording that is as it should be, shorten it, and have the service hold it: each recording of {{ app }} is then judged by it.
      </p>
      <v-btn variant="flat" color="primary" :prepend-icon="mdiFileDocumentEditOutline" @click="writing = true">Draft one from this recording</v-btn>
    </v-card>

    <ContractEditor v-if="writing" :recording="recording" :app="app" :held="!!held" class="mb-4" @tried="tried = $event" @done="wrote" @cancel="writing = false" />

    <template v-if="report">
      <div class="bar">
        <v-btn
          v-for="s in statuses"
          :key="s"
          :variant="only === s ? 'flat' : 'outlined'"
          :color="s === 'broken' && of(s).length ? 'error' : undefined"
          :aria-pressed="only === s"
          :data-status="s"
          @click="only = only === s ? '' : s"
        >
          <span class="sign">{{ signs[s] }}</span> {{ of(s).length }} {{ words[s] }}
        </v-btn>
        <span class="grow" />
        <v-btn v-if="!writing" variant="outlined" :prepend-icon="mdiFileDocumentEditOutline" @click="writing = true">Change the contract</v-btn>
        <ExportMenu name="contract" :data="report" :columns="columns" :rows="report.clauses" />
      </div>
      <v-alert v-for="c in report.caveats" :key="c" type="info" class="mb-3" density="compact">{{ c }}</v-alert>
      <p v-if="!report.clauses.length" class="quiet">The contract has no clauses.</p>
      <section v-for="s in shown" :key="s" class="mb-4">
        <h2>{{ { broken: 'Broken', 'not seen': 'Not seen in this recording', kept: 'Kept' }[s] }}</h2>
        <template v-if="s === 'broken'"><BrokenClause v-for="c in of(s)" :key="c.id + c.line" :clause="c" :recording="recording" /></template>
        <v-card v-else>
          <v-table density="compact">
            <thead>
              <tr>
                <th scope="col">Clause</th>
                <th scope="col">Why</th>
                <th scope="col" class="num">Line</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="c in of(s)" :key="c.id + c.line" :data-clause="c.status">
                <td><span class="sign" :title="s">{{ signs[s] }}</span> {{ c.says }}</td>
                <td class="quiet">{{ c.why }}</td>
                <td class="num">{{ c.line }}</td>
              </tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <AcceptedList v-if="report.accepted.length" :list="report.accepted" :recording="recording" />
      <CommandLine class="mt-4" :command="`keenlantern contract check ${recording}`" />
    </template>
  </main>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
  margin-bottom: 16px;
}
.grow {
  flex: 1;
}
h2 {
  margin-bottom: 6px;
}
.sign {
  display: inline-block;
  width: 1.4em;
}
td {
  overflow-wrap: anywhere;
}
</style>
