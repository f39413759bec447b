<script setup lang="ts">
import type { Stream } from '@/api/types'
import { count, healthOf, took, whole } from '@/format'

defineProps<{ streams: Stream[] }>()

function health(stream: Stream): string {
  const h = stream.health
  const whole = !h.refused && !h.unknown_kinds && !h.unresolved && !h.lost && !h.cut_off && !h.names_over && !h.flattened && !h.abandoned && !stream.broken && h.sampled === 1
  return healthOf({ ...h, whole, cut_off: h.cut_off ? 1 : 0, broken: stream.broken ? 1 : 0, why: '' })
}
</script>

<template>
  <v-card>
    <v-table>
      <thead>
        <tr>
          <th>Stream</th>
          <th>Host</th>
          <th class="num">Lasted</th>
          <th class="num">Registrations</th>
          <th class="num">Scopes</th>
          <th class="num">Instances</th>
          <th class="num">Alive</th>
          <th class="num">Lines</th>
          <th>Health</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="s in streams" :key="s.stream">
          <tr>
            <td class="code">{{ s.stream }}</td>
            <td>{{ s.host || '–' }}</td>
            <td class="num" :title="`${s.lasted_ns} ns`">{{ took(s.lasted_ns) }}</td>
            <td class="num">{{ whole(s.figures.registrations) }}</td>
            <td class="num">{{ whole(s.figures.scopes) }}</td>
            <td class="num">{{ whole(s.figures.instances) }}</td>
            <td class="num">{{ whole(s.figures.alive) }}</td>
            <td class="num">{{ whole(s.health.lines) }}</td>
            <td>{{ health(s) }}</td>
          </tr>
          <tr v-if="s.broken" data-broken>
            <td colspan="9" class="refusals">
              The analysis broke off<template v-if="s.broken.line"> at line {{ whole(s.broken.line) }}</template>: {{ s.broken.why }}. The trace is kept; nothing is said of what was
              found in it.
            </td>
          </tr>
          <tr v-if="s.health.refusals.length" data-refusals>
            <td colspan="9" class="refusals">
              <div v-for="r in s.health.refusals" :key="r.line"><span class="num">line {{ r.line }}</span> refused: {{ r.why }}</div>
              <div v-if="s.health.refused > s.health.refusals.length">and {{ count(s.health.refused - s.health.refusals.length, 'line', 'lines') }} more</div>
            </td>
          </tr>
          <tr v-if="s.health.silent.length">
            <td colspan="9" class="quiet">Not enough is seen in this recording for {{ s.health.silent.join(', ') }}.</td>
          </tr>
        </template>
      </tbody>
    </v-table>
  </v-card>
</template>

<style scoped>
.refusals {
  padding: 6px 16px 10px 32px !important;
}
</style>
