<script setup lang="ts">
import { mdiAlertOctagon, mdiCheck, mdiMinus } from '@mdi/js'
import { computed } from 'vue'

import type { Verdict } from '@/api/types'

/** How a registration behaved, and whether that is what its lifetime says. */
const props = defineProps<{ verdict: Verdict; brief?: boolean }>()
// Where there is little room, up to the comma; the title has the whole.
const as = computed(() => (props.brief ? props.verdict.as.split(',')[0] : props.verdict.as))
const icon = computed(() => (props.verdict.agrees === false ? mdiAlertOctagon : props.verdict.agrees ? mdiCheck : mdiMinus))
const word = computed(() => (props.verdict.agrees === false ? 'differs: ' : ''))
</script>

<template>
  <span :class="['verdict', { differs: verdict.agrees === false, quiet: verdict.agrees === null }]" :title="`${verdict.as}: ${verdict.why}`">
    <v-icon :icon="icon" size="x-small" /> {{ word }}{{ as }}
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
