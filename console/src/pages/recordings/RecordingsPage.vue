<script setup lang="ts">
import { mdiAlert, mdiAlertOctagon, mdiCheck, mdiInformation, mdiPin, mdiRecordCircleOutline } from '@mdi/js'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import type { Recording } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import PageState from '@/components/PageState.vue'
import TimeText from '@/components/TimeText.vue'
import { healthOf, rounded, took, whole } from '@/format'

import FirstTrace from './FirstTrace.vue'
import { pageSize, useRecordings } from './useRecordings'

const route = useRoute()
const router = useRouter()
const page = computed({
  get: () => Math.max(1, Number(route.query.page) || 1),
  set: (page: number) => void router.push({ query: page > 1 ? { page } : {} }),
})
const { data, error, loading, refresh, fresh, showFresh } = useRecordings(page, () => window.scrollY < 80)
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / pageSize))
const severities = [
  { name: 'error', icon: mdiAlertOctagon },
  { name: 'warning', icon: mdiAlert },
  { name: 'note', icon: mdiInformation },
] as const

function tally(recording: Recording) {
  return severities.filter((s) => recording.findings[s.name] > 0).map((s) => ({ ...s, n: recording.findings[s.name] }))
}

function spoken(recording: Recording): string {
  return tally(recording)
    .map((t) => `${t.n} ${t.name}${t.n === 1 ? '' : 's'}`)
    .join(', ')
}
</script>

<template>
  <main class="page">
    <h1>Recordings</h1>
    <PageState :error="error" :loading="loading && !data" what="the recordings" @retry="refresh" />
    <template v-if="data">
      <FirstTrace v-if="data.total === 0" />
      <template v-else>
        <div class="fresh" aria-live="polite">
          <v-btn v-if="fresh.size" variant="tonal" @click="showFresh">{{ fresh.size }} new</v-btn>
        </div>
        <v-card>
          <v-table class="recordings" hover>
            <thead>
              <tr>
                <th>Application</th>
                <th>Began</th>
                <th>State</th>
                <th class="num">Lasted</th>
                <th class="num">Scopes</th>
                <th class="num">Events</th>
                <th>Found</th>
                <th>Health</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="r in data.recordings" :key="r.id" :data-recording="r.id">
                <td>
                  <router-link class="app-link name" :to="{ name: 'recording', params: { recording: r.id } }">{{ r.name || `${r.app} ${r.version}` }}</router-link>
                  <v-icon v-if="r.pinned" class="ml-1" :icon="mdiPin" size="x-small" title="pinned: housekeeping keeps it" />
                  <div class="quiet small">
                    <span class="code">{{ r.id }}</span> {{ r.name ? `${r.app} ${r.version}` : '' }} {{ r.environment }}
                    <v-chip v-for="(value, label) in r.labels" :key="label" size="x-small" class="ml-1">{{ label }}={{ value }}</v-chip>
                  </div>
                </td>
                <td><TimeText :at="r.start" /></td>
                <td>
                  <v-icon v-if="r.state === 'running'" :icon="mdiRecordCircleOutline" size="x-small" color="error" class="mr-1" />{{ r.state }}<span v-if="r.stale" class="quiet" data-stale>, being reanalysed</span>
                </td>
                <td class="num" :title="`${r.lasted_ns} ns`">{{ took(r.lasted_ns) }}</td>
                <td class="num" :title="whole(r.figures.scopes)">{{ rounded(r.figures.scopes) }}</td>
                <td class="num" :title="whole(r.figures.events)">{{ rounded(r.figures.events) }}</td>
                <td>
                  <span v-if="!r.worst" class="quiet"><v-icon :icon="mdiCheck" size="x-small" /> nothing</span>
                  <span v-else :aria-label="spoken(r)">
                    <v-chip v-for="t in tally(r)" :key="t.name" :color="t.name" :prepend-icon="t.icon" class="mr-1" :title="spoken(r)">{{ t.n }}</v-chip>
                  </span>
                </td>
                <td :class="r.health.whole ? 'quiet' : 'unwhole'">{{ healthOf(r.health) }}</td>
              </tr>
            </tbody>
          </v-table>
        </v-card>
        <v-pagination v-if="pages > 1" v-model="page" :length="pages" density="comfortable" class="mt-3" />
        <CommandLine class="mt-4" command="keenlantern recordings" />
      </template>
    </template>
  </main>
</template>

<style scoped>
.fresh {
  min-height: 36px;
}
.small {
  font-size: 0.8rem;
}
.name {
  font-weight: 600;
}
.recordings td {
  padding-top: 6px !important;
  padding-bottom: 6px !important;
}
.unwhole {
  font-weight: 600;
}
</style>
