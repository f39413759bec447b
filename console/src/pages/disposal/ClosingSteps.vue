<script setup lang="ts">
import type { Closing } from '@/api/types'
import MarkTag from '@/components/MarkTag.vue'
import RegLink from '@/components/RegLink.vue'
import { took } from '@/format'

/** A closing's disposals in order, each with its place in the closing's time. */
const props = defineProps<{ closing: Closing }>()
const share = (ns: number) => `${Math.min(100, (100 * ns) / Math.max(1, props.closing.took_ns))}%`
</script>

<template>
  <v-table>
    <thead>
      <tr>
        <th class="num">At</th>
        <th>What</th>
        <th>Instance</th>
        <th>By</th>
        <th class="num">Took</th>
        <th>State</th>
        <th class="when">In the closing's time</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(s, n) in closing.steps" :key="n">
        <td class="num" :title="`${s.at} ns`">{{ took(s.at) }}</td>
        <td><RegLink :of="s.of" /></td>
        <td><MarkTag :mark="s.mark" :instance="s.instance" :stream="closing.stream" /></td>
        <td>{{ s.by || '–' }}</td>
        <td class="num" :title="`${s.ns} ns`">{{ took(s.ns) }}</td>
        <td :class="{ bad: s.state === 'failed' || s.state === 'begun' || s.state === 'refused' }">{{ s.state === 'begun' ? '✕ begun, never done' : s.state === 'failed' ? '✕ failed' : s.state }}</td>
        <td class="when" aria-hidden="true"><span class="bar" :style="{ marginLeft: share(s.at), width: `max(3px, ${share(s.ns)})` }" /></td>
      </tr>
    </tbody>
  </v-table>
</template>

<style scoped>
.when {
  width: 22%;
}
.bar {
  display: block;
  height: 10px;
  border-radius: 2px;
  background: rgb(var(--v-theme-life));
}
.bad {
  font-weight: 600;
  color: rgb(var(--v-theme-error));
}
</style>
