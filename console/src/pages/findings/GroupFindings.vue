<script setup lang="ts">
import { mdiSubdirectoryArrowRight } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import type { ViewQuery } from '@/api/client'
import PageState from '@/components/PageState.vue'
import PlaceText from '@/components/PlaceText.vue'
import SeverityTag from '@/components/SeverityTag.vue'
import TimeText from '@/components/TimeText.vue'
import { useNames } from '@/composables/useNames'
import { useView } from '@/composables/useView'
import { count, rounded, whole } from '@/format'

import { placesOf, seenOf } from './findings'

/** The findings of one group, a page at a time. */
const props = defineProps<{ recording: string; query: ViewQuery<'findings'> }>()
const names = useNames()
const rows = 20
const page = ref(1)
const { data, error, loading, refresh } = useView(
  () => props.recording,
  'findings',
  () => ({ ...props.query, limit: rows, offset: (page.value - 1) * rows }),
)
watch(() => JSON.stringify(props.query), () => (page.value = 1))
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))
</script>

<template>
  <div class="group" data-group-findings>
    <PageState :error="error" :loading="loading && !data" what="the findings" @retry="refresh" />
    <template v-if="data">
      <p class="quiet mb-1">{{ count(data.total, 'finding', 'findings') }}</p>
      <v-table density="compact" class="shares">
        <thead>
          <tr>
            <th style="width: 122px">Severity</th>
            <th>What</th>
            <th style="width: 30%">Where to change it</th>
            <th class="num" style="width: 72px">Seen</th>
            <th style="width: 176px">Last</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="f in data.findings" :key="f.id">
            <td><SeverityTag :severity="f.severity" /></td>
            <td class="what py-1">
              <v-icon v-if="f.because" :icon="mdiSubdirectoryArrowRight" size="small" title="follows from another finding" />
              <router-link class="app-link" :to="{ name: 'finding', params: { recording, finding: f.id } }" :title="f.title">{{ names.prose(f.title) }}</router-link>
              <div class="quiet small">{{ f.rule }}</div>
            </td>
            <td><div v-for="at in placesOf(f)" :key="at"><PlaceText :at="at" plain /></div></td>
            <td class="num" :title="whole(seenOf(f))">{{ rounded(seenOf(f)) }}</td>
            <td><TimeText :at="f.last" /></td>
          </tr>
        </tbody>
      </v-table>
      <v-pagination v-if="pages > 1" v-model="page" :length="pages" :total-visible="7" density="compact" class="mt-2" />
    </template>
  </div>
</template>

<style scoped>
.group {
  padding: 8px 0 12px 12px;
  border-left: 3px solid rgba(var(--v-theme-on-surface), 0.2);
}
.what {
  overflow-wrap: anywhere;
}
.small {
  font-size: 0.8rem;
}
</style>
