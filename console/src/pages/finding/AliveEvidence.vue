<script setup lang="ts">
import { computed } from 'vue'

import type { FindingDetail } from '@/api/types'
import ChartBox, { type Colours } from '@/components/chart/ChartBox.vue'
import { linesOverTime, overTime } from '@/components/chart/options'
import { useNames } from '@/composables/useNames'
import { useView } from '@/composables/useView'
import { nameOf, rounded, whole } from '@/format'
import ClosingSteps from '@/pages/disposal/ClosingSteps.vue'

/** What was alive of the finding's subject over time, how fast that grows, and the latest closings that hold it. */
const names = useNames()
const props = defineProps<{ finding: FindingDetail }>()
const { data } = useView(() => props.finding.recording, 'disposal', () => ({ service: props.finding.subject.service, limit: 200 }))
const rows = computed(() => (data.value?.alive ?? []).filter((r) => nameOf(r.of) === nameOf(props.finding.subject) && (!props.finding.subject.at || r.of.at === props.finding.subject.at)))
const option = computed(() => {
  const step = data.value?.width_ns ?? 1
  const lines = rows.value.slice(0, 4).map((r) => ({ name: `${names.of(r.of)} ${r.of.at ? names.place(r.of.at) : ''}`, points: overTime(r.peaks, step) }))
  const closings = overTime(data.value?.closed ?? [], step)
  return (c: Colours) => linesOverTime(c, lines, 'alive', closings)
})
const closing = computed(() => (data.value?.closings ?? []).find((c) => c.steps.some((s) => nameOf(s.of) === nameOf(props.finding.subject))))
</script>

<template>
  <v-card v-if="rows.length" class="mt-4 px-4 py-3" data-alive-evidence>
    <h2>Alive over time</h2>
    <p v-for="r in rows.slice(0, 4)" :key="r.id" class="quiet">
      {{ whole(r.alive) }} alive now, {{ whole(r.most) }} at most, of {{ whole(r.made) }} made<template v-if="r.slope_per_thousand !== null">;
        <strong v-if="r.slope_per_thousand >= 1">▲ {{ rounded(Math.round(r.slope_per_thousand)) }} more after each thousand scopes</strong><template v-else>it does not grow with the scopes</template></template>
    </p>
    <ChartBox :option="option" :height="180" name="alive" :label="`Alive over time: ${rows.map((r) => `${r.alive} now, ${r.most} at most`).join('; ')}`" />
    <template v-if="closing">
      <h2 class="mt-3">The latest closing with it</h2>
      <ClosingSteps :closing="closing" />
    </template>
  </v-card>
</template>
