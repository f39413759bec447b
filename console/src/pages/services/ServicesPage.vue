<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'

import { api } from '@/api/client'
import CommandLine from '@/components/CommandLine.vue'
import PageState from '@/components/PageState.vue'
import TimeText from '@/components/TimeText.vue'
import { useFetched } from '@/composables/useFetched'
import { count, took, whole } from '@/format'

import PartitionBoard from './PartitionBoard.vue'
import { letterOf, ranges } from './partitions'

const { data, error, loading, refresh } = useFetched(() => [], (signal: AbortSignal) => api.services(signal))
// Who works on what changes without anything being recorded, so no live message reports it.
const again = window.setInterval(() => void refresh(), 2000)
onBeforeUnmount(() => window.clearInterval(again))

// A service keeps its letter while the page is open, even if services come and go.
const known = ref<string[]>([])
watch(data, (now) => now?.services.forEach((s) => s.id && !known.value.includes(s.id) && known.value.push(s.id)))
const place = (id: string | undefined) => known.value.indexOf(id ?? '')
// Who cannot reach the log does not hear of itself either.
const away = computed(() => !!data.value?.shared && !data.value.services.some((s) => s.this))
const moving = computed(() => (data.value ? data.value.free + data.value.reading : 0))
const versions = computed(() => new Set(data.value?.services.map((s) => s.derivation)).size)
</script>

<template>
  <main class="page">
    <h1>Services</h1>
    <PageState :error="error" :loading="loading && !data" what="the services" @retry="refresh" />
    <template v-if="data && !data.shared">
      <p class="mt-2">This service works alone, on its data folder. Several services can share a log, so that there is more room, and any of them may fail:</p>
      <p class="code mt-2">keenlantern serve --log nats://log-1:4222,nats://log-2:4222,nats://log-3:4222</p>
    </template>
    <template v-if="data && data.shared">
      <p class="quiet mb-3">
        {{ count(data.services.length, 'service', 'services') }} share the log <span class="code">{{ data.log }}</span>. Streams are divided into {{ count(data.partitions, 'partition', 'partitions') }}; one service at a time works on
        each.
      </p>
      <v-alert v-if="away" class="mb-3" type="error" variant="tonal" density="compact" data-away>
        The log does not answer this service: it cannot be reached, or most of its servers are down. Batches are rejected with Retry-After until it does; recorders hold what they have.
      </v-alert>
      <v-alert v-else-if="moving" class="mb-3" type="warning" variant="tonal" density="compact" data-moving>
        {{ moving }} of {{ data.partitions }} partitions {{ moving === 1 ? 'is' : 'are' }} being taken over. Questions about their streams are answered when that is done.
      </v-alert>
      <v-alert v-if="versions > 1" class="mb-3" type="info" variant="tonal" density="compact">
        Not all services derive findings in the same way: they are of different versions, or have different settings. What another one derived is reanalysed where its streams are taken over.
      </v-alert>
      <PartitionBoard :list="data" :place="place" class="mb-4" />
      <v-table v-if="data.services.length" density="compact" class="services">
        <thead>
          <tr>
            <th>Service</th>
            <th>Address</th>
            <th>Version</th>
            <th class="num">Works on</th>
            <th>Partitions</th>
            <th>Behind</th>
            <th class="num">Recordings in memory</th>
            <th class="num">Taken over</th>
            <th>Started</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in data.services" :key="s.id" :data-service="s.id">
            <td class="text-no-wrap">
              <span class="letter" :style="{ background: `var(--service-${place(s.id) % 6})` }" aria-hidden="true">{{ letterOf(place(s.id)) }}</span> <span class="code">{{ s.id }}</span>
              <span v-if="s.this" class="quiet"> this one</span>
            </td>
            <td class="code">{{ s.address }}</td>
            <td class="text-no-wrap">{{ s.version }}</td>
            <td class="num">{{ whole(s.partitions.length) }}</td>
            <td>{{ ranges(s.partitions) || 'none' }}</td>
            <td>{{ s.lag_batches ? `${count(s.lag_batches, 'batch', 'batches')}, ${took(s.lag_ns)}` : 'no' }}</td>
            <td class="num">{{ whole(s.streams) }}</td>
            <td class="num">{{ whole(s.taken_over) }}</td>
            <td><TimeText v-if="s.started" :at="s.started" /></td>
          </tr>
        </tbody>
      </v-table>
      <CommandLine class="mt-4" command="keenlantern services" />
    </template>
  </main>
</template>

<style>
/* Services are distinguished by a letter; the colour helps to find it. */
:root {
  --service-0: #2f6fab;
  --service-1: #8a5a00;
  --service-2: #1f7a5c;
  --service-3: #8b3f8f;
  --service-4: #a03d3d;
  --service-5: #5a5f6b;
}
.letter {
  display: inline-flex;
  align-items: center;
  justify-content: center;
  width: 20px;
  height: 20px;
  border-radius: 3px;
  color: #fff;
  font-size: 12px;
  font-weight: 600;
}
</style>
