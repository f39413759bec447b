<script setup lang="ts">
import { mdiSubdirectoryArrowRight } from '@mdi/js'
import { computed } from 'vue'

import type { Finding } from '@/api/types'
import SeverityTag from '@/components/SeverityTag.vue'
import TimeText from '@/components/TimeText.vue'
import { rounded, whole } from '@/format'

import type { Cause } from './findings'

const props = defineProps<{ causes: Cause[]; recording: string; none: string; fresh?: Set<string> }>()
const rows = computed(() =>
  props.causes.flatMap((c) => [{ finding: c.finding, follows: false }, ...c.follows.map((finding) => ({ finding, follows: true }))]),
)

function places(finding: Finding): string[] {
  return [...new Set([finding.holder?.at, finding.subject.at].filter((at): at is string => !!at))]
}

function seen(finding: Finding): number {
  for (const figure of ['instances', 'scopes', 'failures', 'alive', 'fills', 'makes', 'registrations']) {
    const n = finding.counts[figure]
    if (n) return n
  }
  return 0
}
</script>

<template>
  <v-card>
    <p v-if="!rows.length" class="pa-4 quiet">{{ none }}</p>
    <v-table v-else hover>
      <thead>
        <tr>
          <th>Severity</th>
          <th>What</th>
          <th>Where to change it</th>
          <th class="num">Seen</th>
          <th>Last</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.finding.id" :data-finding="row.finding.id">
          <td><SeverityTag :severity="row.finding.severity" /></td>
          <td class="what">
            <v-icon v-if="row.follows" :icon="mdiSubdirectoryArrowRight" size="small" title="follows from the finding above" />
            <router-link class="app-link" :to="{ name: 'finding', params: { recording, finding: row.finding.id } }">{{ row.finding.title }}</router-link>
            <v-chip v-if="fresh?.has(row.finding.id)" class="ml-2" size="x-small">new</v-chip>
            <div class="quiet small">{{ row.finding.rule }}</div>
          </td>
          <td class="code"><div v-for="at in places(row.finding)" :key="at">{{ at }}</div></td>
          <td class="num" :title="whole(seen(row.finding))">{{ rounded(seen(row.finding)) }}</td>
          <td><TimeText :at="row.finding.last" /></td>
        </tr>
      </tbody>
    </v-table>
  </v-card>
</template>

<style scoped>
.what {
  overflow-wrap: anywhere;
  padding-top: 6px !important;
  padding-bottom: 6px !important;
}
.small {
  font-size: 0.8rem;
}
</style>
