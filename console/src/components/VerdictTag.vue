<script setup lang="ts">
import { mdiAlertOctagon, mdiCheck, mdiMinus } from '@mdi/js'
import { computed } from 'vue'

import type { Verdict } from '@/api/types'

/** How a registration behaved, and whether that is what its lifetime says. */
const props = defineProps<{ verdict: Verdict }>()
const icon = computed(() => (props.verdict.agrees === false ? mdiAlertOctagon : props.verdict.agrees ? mdiCheck : mdiMinus))
const word = computed(() => (props.verdict.agrees === false ? 'differs: ' : ''))
</script>

<template>
  <span :class="['verdict', { differs: verdict.agrees === false, quiet: verdict.agrees === null }]" :title="verdict.why">
    <v-icon :icon="icon" size="x-small" /> {{ word }}{{ verdict.as }}
  </span>
</template>

<style scoped>
.verdict {
  white-space: nowrap;
}
.differs {
  font-weight: 600;
  color: rgb(var(--v-theme-error));
}
</style>
