<script setup lang="ts">
import { mdiAlert, mdiAlertOctagon, mdiInformation } from '@mdi/js'
import { computed } from 'vue'

import type { Severity } from '@/api/types'

const props = defineProps<{ severity: Severity }>()
const icons = { error: mdiAlertOctagon, warning: mdiAlert, note: mdiInformation }
const icon = computed(() => icons[props.severity])
</script>

<template>
  <v-chip :color="severity" :prepend-icon="icon" class="severity">{{ severity }}</v-chip>
</template>

<style scoped>
.severity {
  font-weight: 600;
}
</style>
