<script setup lang="ts">
import { computed } from 'vue'

import type { FindingGroup } from '@/api/types'
import PlaceText from '@/components/PlaceText.vue'
import SeverityTag from '@/components/SeverityTag.vue'
import { useNames } from '@/composables/useNames'
import { count } from '@/format'
import { placesOf } from '@/pages/findings/findings'

const names = useNames()
/** What one change would end: the worst finding, and how many others. */
const props = defineProps<{ group: FindingGroup; recording: string }>()
const finding = computed(() => props.group.lead)
const others = computed(() => props.group.findings - 1)
const places = computed(() => (others.value ? (props.group.of?.at ? [props.group.of.at] : []) : placesOf(finding.value)))
</script>

<template>
  <v-card class="pa-4 card" :data-card="finding.rule">
    <div class="top">
      <SeverityTag :severity="finding.severity" />
      <span class="quiet">{{ finding.rule }}</span>
    </div>
    <router-link class="app-link title" :to="{ name: 'finding', params: { recording, finding: finding.id } }" :title="group.title">{{ names.prose(group.title) }}</router-link>
    <p v-if="others" class="quiet more"><router-link class="app-link" :to="{ name: 'findings', params: { recording }, query: { group: group.key } }">{{ count(group.findings, 'finding', 'findings') }}</router-link>, of which the worst is shown</p>
    <div v-if="places.length" class="places">
      <PlaceText v-for="at in places" :key="at" :at="at" />
    </div>
    <p class="fix"><strong>Change:</strong> {{ names.prose(finding.fix) }}</p>
  </v-card>
</template>

<style scoped>
.card {
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.top {
  display: flex;
  align-items: center;
  gap: 10px;
}
.title {
  font-weight: 600;
  overflow-wrap: anywhere;
}
.more {
  font-size: 0.85rem;
}
.places {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 14px;
}
.fix {
  font-size: 0.88rem;
  overflow-wrap: anywhere;
}
</style>
