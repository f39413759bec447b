<script setup lang="ts">
import { mdiNewBox } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { api } from '@/api/client'
import type { Finding, Severity } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import PageState from '@/components/PageState.vue'
import { useQuery } from '@/composables/useQuery'
import { useHere } from '@/composables/useView'
import type { Column } from '@/download'
import FindingsTable from '@/pages/recording/FindingsTable.vue'
import { concerns, families, foldedCauses, useFindings } from '@/pages/recording/findings'

const props = defineProps<{ recording: string }>()
const { text, flag } = useQuery()
const { detail } = useHere()!
const { data: findings, error, loading, refresh } = useFindings(() => props.recording)

const severities: Severity[] = ['error', 'warning', 'note']
const severity = text('severity')
const family = text('family')
const service = text('service')
const onlyNew = flag('new')
const words: Record<Severity, string> = { error: 'errors', warning: 'warnings and worse', note: 'all' }

// What the recording before it of the same application did not have is new.
const before = ref('')
const had = ref<Set<string>>()
const fresh = computed(() => had.value && new Set((findings.value ?? []).filter((f) => !had.value!.has(f.id)).map((f) => f.id)))
watch(
  () => detail.value?.id,
  async (id) => {
    had.value = undefined
    before.value = ''
    if (!id || !detail.value) return
    const { app, environment, created } = detail.value
    const off = new AbortController()
    try {
      const { recordings } = await api.recordings(200, 0, off.signal)
      const last = recordings.find((r) => r.app === app && r.environment === environment && r.created < created)
      if (!last) return
      const old = await api.view(last.id, 'findings', {}, off.signal)
      before.value = last.id
      had.value = new Set(old.findings.map((f) => f.id))
    } catch {
      // Without the recording before there is nothing to compare with; the list says enough.
    }
  },
  { immediate: true },
)

const chosen = computed(() => (findings.value ?? []).filter((f) => concerns(f, service.value) && (!onlyNew.value || fresh.value?.has(f.id))))
const causes = computed(() => foldedCauses(chosen.value, severity.value, family.value))
const shown = computed(() => causes.value.flatMap((c) => [c.finding, ...c.follows]))
const columns: Column<Finding>[] = [
  { title: 'id', value: (f) => f.id },
  { title: 'severity', value: (f) => f.severity },
  { title: 'rule', value: (f) => f.rule },
  { title: 'title', value: (f) => f.title },
  { title: 'place', value: (f) => f.subject.at },
  { title: 'holder_place', value: (f) => f.holder?.at },
  { title: 'last', value: (f) => f.last },
]
const command = computed(() => `keenlantern findings ${detail.value?.id ?? props.recording}${severity.value ? ` --severity ${severity.value}` : ''}`)
</script>

<template>
  <main class="page">
    <h1>Findings</h1>
    <PageState :error="error" :loading="loading && !findings" what="the findings" @retry="refresh" />
    <template v-if="findings && detail">
      <div class="chips mt-2 mb-3" role="group" aria-label="Show findings of">
        <v-chip v-for="s in severities" :key="s" tag="button" :color="s" :variant="severity === s ? 'flat' : 'outlined'" :aria-pressed="severity === s" @click="severity = severity === s ? '' : s">{{ words[s] }}</v-chip>
        <v-chip v-for="f in families(findings)" :key="f.name" tag="button" :variant="family === f.name ? 'flat' : 'outlined'" :aria-pressed="family === f.name" @click="family = family === f.name ? '' : f.name">{{ f.name }} {{ f.n }}</v-chip>
        <v-chip v-if="before" tag="button" :prepend-icon="mdiNewBox" :variant="onlyNew ? 'flat' : 'outlined'" :aria-pressed="onlyNew" @click="onlyNew = !onlyNew">new since {{ before }}: {{ fresh?.size ?? 0 }}</v-chip>
      </div>
      <FilterBar :lifetime="false">
        <template #end><ExportMenu name="findings" :data="shown" :columns="columns" :rows="shown" /></template>
      </FilterBar>
      <FindingsTable :causes="causes" :recording="recording" :fresh="fresh" :none="findings.length ? 'None of the findings is of the kind chosen.' : 'Nothing was found in this recording.'" />
      <p v-if="detail?.findings.accepted" class="quiet mt-3" data-accepted>
        {{ detail.findings.accepted === 1 ? '1 other finding is' : `${detail.findings.accepted} other findings are` }} accepted by
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
</style>
