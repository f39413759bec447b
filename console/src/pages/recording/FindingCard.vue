<script setup lang="ts">
import type { Finding } from '@/api/types'
import SeverityTag from '@/components/SeverityTag.vue'

defineProps<{ finding: Finding; recording: string }>()
</script>

<template>
  <v-card class="pa-4 card" :data-card="finding.rule">
    <div class="top">
      <SeverityTag :severity="finding.severity" />
      <span class="quiet">{{ finding.rule }}</span>
    </div>
    <router-link class="app-link title" :to="{ name: 'finding', params: { recording, finding: finding.id } }">{{ finding.title }}</router-link>
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
.fix {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
