<script setup lang="ts">
import type { Proposals } from '@/api/types'
import { useNames } from '@/composables/useNames'
import { count, rounded, took } from '@/format'

/** Changes that are worth making, the best first. */
const names = useNames()
defineProps<{ proposals: Proposals }>()
defineEmits<{ play: [sets: string[]] }>()
</script>

<template>
  <v-card class="pa-4" data-proposals>
    <h2>Proposed</h2>
    <p v-if="!proposals.proposals.length">Of {{ count(proposals.tried, 'change', 'changes') }} that were tried, none would save construction time or end a finding without a new one.</p>
    <div v-for="p in proposals.proposals" :key="p.changes[0]?.set" class="proposal">
      <div>
        <div v-for="c in p.changes" :key="c.set" class="code">{{ c.set }}</div>
        <div class="quiet">
          {{ rounded(p.instances.then) }} instances instead of {{ rounded(p.instances.now) }}, {{ took(p.construction_ns.then) }} of construction instead of
          {{ took(p.construction_ns.now) }}<template v-if="p.longer">; instances would be shared for longer: their code has to bear that</template>
        </div>
        <div v-for="f in p.go" :key="f.id">ends: {{ names.prose(f.title) }}</div>
      </div>
      <v-btn variant="outlined" size="small" @click="$emit('play', p.changes.map((c) => c.set))">Play it</v-btn>
    </div>
    <p v-if="proposals.proposals.length" class="quiet mt-2">{{ count(proposals.tried, 'change was', 'changes were') }} tried; none of these brings a new finding.</p>
  </v-card>
</template>

<style scoped>
.proposal {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 16px;
  padding: 8px 0;
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  overflow-wrap: anywhere;
}
</style>
