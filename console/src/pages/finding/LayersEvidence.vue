<script setup lang="ts">
import { computed } from 'vue'

import type { FindingDetail } from '@/api/types'
import { useView } from '@/composables/useView'
import StackView from '@/pages/layers/StackView.vue'

/** The service's layers, and who bypassed them. */
const props = defineProps<{ finding: FindingDetail }>()
const { data } = useView(() => props.finding.recording, 'layers', () => ({ service: props.finding.subject.service, limit: 100 }))
const stacks = computed(() => {
  const all = (data.value?.stacks ?? []).filter((s) => s.service === props.finding.subject.service)
  const same = all.filter((s) => s.key === props.finding.subject.key)
  return same.length ? same : all
})
</script>

<template>
  <v-card v-for="(s, n) in stacks" :key="n" class="mt-4 px-4 py-3" data-layers-evidence>
    <StackView :stack="s" />
  </v-card>
</template>
