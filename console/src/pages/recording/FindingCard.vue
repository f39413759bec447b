<script setup lang="ts">
import { computed } from 'vue'

import type { Finding } from '@/api/types'
import CopyButton from '@/components/CopyButton.vue'
import SeverityTag from '@/components/SeverityTag.vue'

const props = defineProps<{ finding: Finding; recording: string }>()
const places = computed(() => [...new Set([props.finding.holder?.at, props.finding.subject.at].filter((at): at is string => !!at))])
</script>

<template>
  <v-card class="pa-4 card" :data-card="finding.rule">
    <div class="top">
      <SeverityTag :severity="finding.severity" />
      <span class="quiet">{{ finding.rule }}</span>
    </div>
    <router-link class="app-link title" :to="{ name: 'finding', params: { recording, finding: finding.id } }">{{ finding.title }}</router-link>
    <div v-if="places.length" class="places">
      <span v-for="at in places" :key="at" class="code">{{ at }}<CopyButton :text="at" what="the place in the source" /></span>
    </div>
    <p class="fix"><strong>Change:</strong> {{ finding.fix }}</p>
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
