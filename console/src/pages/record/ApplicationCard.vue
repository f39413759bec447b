<script setup lang="ts">
import { mdiRecordCircleOutline } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { api, Problem } from '@/api/client'
import type { Application } from '@/api/types'
import TimeText from '@/components/TimeText.vue'
import { count, rounded, whole } from '@/format'

/** One application: whether it records, how large a share of its scopes, until when, and which processes there are. */
const props = defineProps<{ application: Application }>()
const emit = defineEmits<{ changed: [] }>()

const share = ref(1)
const minutes = ref(0)
const megabytes = ref(0)
const busy = ref(false)
const problem = ref<Problem>()
const order = computed(() => props.application.order)
const said = computed(() => order.value.version > 0)
const on = computed(() => (said.value ? order.value.on : props.application.recorders.some((r) => r.on)))

// A choice in progress is not overwritten by a reload.
watch(
  () => [order.value.version, order.value.share, order.value.for_ns, order.value.bytes].join(),
  () => {
    share.value = order.value.share || props.application.recorders[0]?.share || 1
    minutes.value = Math.round(order.value.for_ns / 60e9)
    megabytes.value = Math.round(order.value.bytes / (1 << 20))
  },
  { immediate: true },
)
const shares = [1, 0.5, 0.25, 0.1, 0.05, 0.01, 0.001].map((v) => ({ title: v === 1 ? 'all scopes' : `1 in ${Math.round(1 / v)} scopes`, value: v }))
const times = [0, 1, 5, 15, 60, 240].map((v) => ({ title: v === 0 ? 'until it is switched off' : count(v, 'minute', 'minutes'), value: v }))
const sizes = [0, 10, 50, 100, 500, 1000].map((v) => ({ title: v === 0 ? 'no limit' : `${v} MB each`, value: v }))

async function tell(next: boolean) {
  busy.value = true
  problem.value = undefined
  try {
    await api.order(props.application.name, { on: next, share: share.value, for_ns: next ? minutes.value * 60e9 : 0, bytes: next ? megabytes.value * (1 << 20) : 0 })
    emit('changed')
  } catch (caught) {
    problem.value = Problem.of(caught)
  } finally {
    busy.value = false
  }
}
const events = computed(() => props.application.recorders.reduce((n, r) => n + r.events, 0))
const lost = computed(() => props.application.recorders.reduce((n, r) => n + r.lost, 0))
</script>

<template>
  <v-card class="pa-4" :data-application="application.name">
    <div class="head">
      <h2><v-icon v-if="on" :icon="mdiRecordCircleOutline" size="small" color="error" /> {{ application.name }}</h2>
      <span class="quiet">{{ count(application.recorders.length, 'process', 'processes') }}, {{ said ? (order.on ? 'switched on here' : 'switched off here') : 'not switched here: each records as it is configured' }}</span>
    </div>
    <div class="head mt-3">
      <v-switch :model-value="on" :loading="busy" hide-details density="compact" color="primary" :label="on ? 'recording' : 'off'" data-switch @update:model-value="(v: unknown) => tell(v === true)" />
      <v-select v-model="share" class="field" density="compact" variant="outlined" hide-details label="Share" :items="shares" />
      <v-select v-model="minutes" class="field" density="compact" variant="outlined" hide-details label="For" :items="times" />
      <v-select v-model="megabytes" class="field" density="compact" variant="outlined" hide-details label="At most" :items="sizes" />
      <v-btn variant="outlined" :disabled="busy || !on" @click="tell(true)">Apply</v-btn>
    </div>
    <v-alert v-if="problem" type="error" class="mt-3" :title="problem.title">{{ problem.detail }}</v-alert>
    <p class="quiet mt-3">At their last report they had written {{ rounded(events) }} events, and had lost {{ whole(lost) }} because their memory was full.</p>
    <v-table v-if="application.recorders.length">
      <thead><tr><th>Process</th><th>Version</th><th>Environment</th><th>State</th><th class="num">Share</th><th class="num">Events</th><th class="num">Lost</th><th>Last asked</th></tr></thead>
      <tbody>
        <tr v-for="r in application.recorders" :key="r.id">
          <td class="code">{{ r.id }}</td>
          <td>{{ r.version || '–' }}</td>
          <td>{{ r.environment || '–' }}</td>
          <td>{{ r.on ? 'recording' : 'off' }}<span v-if="said && r.knows < order.version" class="quiet">, has not heard yet</span></td>
          <td class="num">{{ Math.round(1000 * (r.share || 1)) / 10 }} %</td>
          <td class="num" :title="whole(r.events)">{{ rounded(r.events) }}</td>
          <td class="num">{{ whole(r.lost) }}</td>
          <td><TimeText :at="r.asked" /></td>
        </tr>
      </tbody>
    </v-table>
  </v-card>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 16px;
}
.field {
  flex: 0 1 230px;
}
</style>
