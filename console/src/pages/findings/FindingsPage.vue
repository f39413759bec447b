<script setup lang="ts">
import { mdiNewBox } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { api } from '@/api/client'
import type { Finding, Grouping, Severity } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import PageState from '@/components/PageState.vue'
import { useQuery } from '@/composables/useQuery'
import { useHere, useView } from '@/composables/useView'
import type { Column } from '@/download'
import { count } from '@/format'

import AdoptDialog from './AdoptDialog.vue'
import GroupTable from './GroupTable.vue'
import { groupings } from './findings'

const props = defineProps<{ recording: string }>()
const { text, flag, number } = useQuery()
const { detail } = useHere()!

const severities: Severity[] = ['error', 'warning', 'note']
const severity = text('severity')
const family = text('family')
const service = text('service')
const onlyNew = flag('new')
const by = text('by', 'cause')
const open = text('group', '', 'replace')
const page = number('page', 1)
const rows = 50
const words: Record<Severity, string> = { error: 'errors', warning: 'warnings and worse', note: 'all' }

// What the recording before it of the same application did not have is new.
const before = ref('')
const fresh = ref(0)
watch(
  () => detail.value?.id,
  async (id) => {
    before.value = ''
    if (!id || !detail.value) return
    const { app, environment, created } = detail.value
    const off = new AbortController()
    try {
      const { recordings } = await api.recordings(200, 0, off.signal)
      const last = recordings.find((r) => r.app === app && r.environment === environment && r.created < created)
      if (!last) return
      fresh.value = (await api.view(id, 'triage', { since: last.id, limit: 1 }, off.signal)).findings
      before.value = last.id
    } catch {
      // Without the recording before there is nothing to compare with; the list says enough.
    }
  },
  { immediate: true },
)

const query = computed(() => ({
  severity: (severity.value || undefined) as Severity | undefined,
  family: family.value || undefined,
  service: service.value || undefined,
  since: onlyNew.value && before.value ? before.value : undefined,
}))
const { data, error, loading, refresh } = useView(
  () => props.recording,
  'triage',
  () => ({ ...query.value, by: by.value as Grouping, limit: rows, offset: (page.value - 1) * rows }),
)
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))
const all = computed(() => (data.value ? data.value.tally.error + data.value.tally.warning + data.value.tally.note : 0))

const columns: Column<Finding>[] = [
  { title: 'id', value: (f) => f.id },
  { title: 'severity', value: (f) => f.severity },
  { title: 'rule', value: (f) => f.rule },
  { title: 'title', value: (f) => f.title },
  { title: 'place', value: (f) => f.subject.at },
  { title: 'holder_place', value: (f) => f.holder?.at },
  { title: 'last', value: (f) => f.last },
]
const findings = () => api.allFindings(props.recording, query.value, new AbortController().signal)
const command = computed(
  () => `keenlantern findings ${detail.value?.id ?? props.recording}${severity.value ? ` --severity ${severity.value}` : ''} --by ${by.value}`,
)
</script>

<template>
  <main class="page">
    <h1>Findings</h1>
    <PageState :error="error" :loading="loading && !data" what="the findings" @retry="refresh" />
    <template v-if="data && detail">
      <div class="chips mt-2 mb-3" role="group" aria-label="Show findings of">
        <v-chip v-for="s in severities" :key="s" tag="button" :color="s" :variant="severity === s ? 'flat' : 'outlined'" :aria-pressed="severity === s" @click="severity = severity === s ? '' : s">{{ words[s] }}</v-chip>
        <v-chip v-for="f in data.families" :key="f.name" tag="button" :variant="family === f.name ? 'flat' : 'outlined'" :aria-pressed="family === f.name" @click="family = family === f.name ? '' : f.name">{{ f.name }} {{ f.findings }}</v-chip>
        <v-chip v-if="before" tag="button" :prepend-icon="mdiNewBox" :variant="onlyNew ? 'flat' : 'outlined'" :aria-pressed="onlyNew" @click="onlyNew = !onlyNew">new since {{ before }}: {{ fresh }}</v-chip>
      </div>
      <FilterBar :lifetime="false">
        <v-select v-model="by" class="by" density="compact" variant="outlined" hide-details label="Grouped" :items="groupings" data-by />
        <template #end>
          <AdoptDialog v-if="data.findings" :recording="detail.id" :findings="data.findings" :query="query" @adopted="refresh" />
          <ExportMenu name="findings" :data="data" :columns="columns" :load="findings" />
        </template>
      </FilterBar>
      <p class="quiet mb-2" data-findings-sum>{{ count(data.findings, 'finding', 'findings') }} in {{ count(data.total, 'group', 'groups') }}, ordered by how many findings a fix ends.</p>
      <v-card v-if="!data.groups.length" class="pa-4"><p class="quiet">{{ all ? 'None of the findings is of the kind chosen.' : 'Nothing was found in this recording.' }}</p></v-card>
      <GroupTable v-else v-model:open="open" :groups="data" :recording="recording" :query="query" />
      <v-pagination v-if="pages > 1" v-model="page" :length="pages" :total-visible="7" class="mt-3" />
      <p v-if="data.tally.accepted" class="quiet mt-3" data-accepted>
        {{ data.tally.accepted === 1 ? '1 other finding is' : `${data.tally.accepted} other findings are` }} accepted by
        <router-link class="app-link" :to="{ name: 'contract', params: { recording } }">the contract</router-link>.
      </p>
      <CommandLine class="mt-4" :command="command" />
    </template>
  </main>
</template>

<style scoped>
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
.by {
  flex: 0 0 190px;
}
</style>
