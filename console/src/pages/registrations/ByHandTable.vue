<script setup lang="ts">
import { computed } from 'vue'

import type { ByHandRow } from '@/api/types'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import PlaceText from '@/components/PlaceText.vue'
import RegLink from '@/components/RegLink.vue'
import { useNames } from '@/composables/useNames'
import { useQuery } from '@/composables/useQuery'
import { useView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf, rounded, whole } from '@/format'

/** The places that construct instances past the container, and what is registered for each. */
const props = defineProps<{ recording: string; service: string }>()
const { number } = useQuery()
const page = number('page', 1)
const rows = 100
const names = useNames()
const { data, error, loading, refresh } = useView(
  () => props.recording,
  'by-hand',
  () => ({ service: props.service, limit: rows, offset: (page.value - 1) * rows }),
)
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))
const columns: Column<ByHandRow>[] = [
  { title: 'implementation', value: (r) => r.implementation },
  { title: 'place', value: (r) => r.at },
  { title: 'made', value: (r) => r.count },
  { title: 'disposed', value: (r) => r.disposed },
  { title: 'registered', value: (r) => (r.registered ? nameOf(r.registered) : '') },
]
</script>

<template>
  <PageState :error="error" :loading="loading && !data" what="what is constructed by hand" @retry="refresh" />
  <template v-if="data">
    <Teleport to="#registrations-export"><ExportMenu name="by-hand" :data="data" :columns="columns" :rows="data.places" /></Teleport>
    <v-card>
      <p v-if="!data.places.length" class="pa-4 quiet">{{ data.total ? 'Nothing is on this page.' : 'No construction past the container was recorded.' }}</p>
      <v-table v-else hover data-by-hand>
        <thead>
          <tr><th>Constructed by hand</th><th>Place</th><th class="num">Made</th><th class="num">Disposed</th><th>Registered as</th><th>Given to</th></tr>
        </thead>
        <tbody>
          <tr v-for="(r, n) in data.places" :key="n">
            <td :title="r.implementation">{{ names.type(r.implementation) }}</td>
            <td><PlaceText v-if="r.at" :at="r.at" /><span v-else class="quiet">not known</span></td>
            <td class="num" :title="whole(r.count)">{{ rounded(r.count) }}</td>
            <td class="num" :title="whole(r.disposed)">{{ rounded(r.disposed) }}</td>
            <td><RegLink v-if="r.registered" :of="r.registered" /><span v-else class="quiet">not registered</span></td>
            <td>
              <template v-for="(a, k) in r.given_to.slice(0, 3)" :key="k">{{ k ? ', ' : '' }}<RegLink v-if="a.consumer" :of="a.consumer" /><template v-else>{{ a.entry || 'not seen' }}</template></template>
              <span v-if="r.given_to.length > 3" class="quiet"> and others</span>
            </td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-pagination v-if="pages > 1" v-model="page" :length="pages" density="comfortable" class="mt-3" />
  </template>
</template>
