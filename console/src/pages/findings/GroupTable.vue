<script setup lang="ts">
import { mdiChevronDown, mdiChevronRight } from '@mdi/js'

import type { ViewQuery } from '@/api/client'
import type { FindingGroups } from '@/api/types'
import PlaceText from '@/components/PlaceText.vue'
import SeverityTag from '@/components/SeverityTag.vue'
import TimeText from '@/components/TimeText.vue'
import { useNames } from '@/composables/useNames'
import { whole } from '@/format'

import GroupFindings from './GroupFindings.vue'

/** Groups of findings, one row each, ordered by how many findings a fix ends; an open one shows its findings. */
const props = defineProps<{ groups: FindingGroups; recording: string; query: ViewQuery<'findings'> }>()
const open = defineModel<string>('open', { required: true })
const names = useNames()
type Group = FindingGroups['groups'][number]

function titleOf(g: Group): string {
  return props.groups.by === 'place' ? (g.title ? names.place(g.title) : '') : names.prose(g.title)
}
</script>

<template>
  <v-card>
    <v-table hover class="shares">
      <thead>
        <tr>
          <th class="fold"><span class="sr-only">Open</span></th>
          <th class="severity">Severity</th>
          <th>What one change would end</th>
          <th class="num figure">Findings</th>
          <th class="num figure" title="registrations and entry points that keep it or ask for it">Holders</th>
          <th class="num figure" title="names of requests and other scopes in which they were seen">Requests</th>
          <th class="when">Last</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="g in groups.groups" :key="g.key">
          <tr :data-finding="g.lead.id" :data-cause="g.key">
            <td class="fold">
              <v-btn
                v-if="g.findings > 1"
                :icon="open === g.key ? mdiChevronDown : mdiChevronRight"
                variant="text"
                size="small"
                :aria-label="`${open === g.key ? 'Close' : 'Show'} the ${g.findings} findings of ${titleOf(g)}`"
                :aria-expanded="open === g.key"
                data-open-group
                @click="open = open === g.key ? '' : g.key"
              />
            </td>
            <td><SeverityTag :severity="g.severity" /></td>
            <td class="what">
              <router-link v-if="g.findings === 1" class="app-link" :to="{ name: 'finding', params: { recording, finding: g.lead.id } }" :title="g.title">{{ titleOf(g) }}</router-link>
              <button v-else type="button" class="app-link" :title="g.title" @click="open = open === g.key ? '' : g.key">{{ titleOf(g) }}</button>
              <div class="quiet small about">
                <span>{{ g.rules.join(', ') }}</span>
                <PlaceText v-if="g.of?.at" :at="g.of.at" plain />
                <router-link v-if="g.findings > 1" class="app-link" :to="{ name: 'finding', params: { recording, finding: g.lead.id } }">the worst of them</router-link>
              </div>
            </td>
            <td class="num">{{ whole(g.findings) }}</td>
            <td class="num">{{ g.holders ? whole(g.holders) : '–' }}</td>
            <td class="num" :title="g.requests.join('\n') + (g.scopes > g.requests.length ? '\n…' : '')">{{ g.scopes ? whole(g.scopes) : '–' }}</td>
            <td><TimeText :at="g.last" /></td>
          </tr>
          <tr v-if="open === g.key" class="opened">
            <td colspan="7"><GroupFindings :recording="recording" :query="{ ...query, by: groups.by, group: g.key }" /></td>
          </tr>
        </template>
      </tbody>
    </v-table>
  </v-card>
</template>

<style scoped>
.fold {
  width: 48px;
  padding-right: 0 !important;
}
.severity {
  width: 122px;
}
.figure {
  width: 92px;
}
.when {
  width: 180px;
}
.what {
  overflow-wrap: anywhere;
  padding-top: 6px !important;
  padding-bottom: 6px !important;
}
.what button {
  text-align: left;
}
.about {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
.small {
  font-size: 0.8rem;
}
</style>
