<script setup lang="ts">
import { computed, nextTick, onMounted } from 'vue'
import { useRoute } from 'vue-router'

import type { RuleDoc } from '@/api/types'
import SeverityTag from '@/components/SeverityTag.vue'

/** What each rule reports, and what it does not; an address can point at one. */
const props = defineProps<{ rules: RuleDoc[] }>()
const route = useRoute()
const chosen = computed(() => String(route.query.rule ?? ''))
const open = computed(() => (chosen.value ? [props.rules.findIndex((r) => r.id === chosen.value)] : []))
onMounted(async () => {
  await nextTick()
  if (chosen.value) document.getElementById(`rule-${chosen.value}`)?.scrollIntoView({ block: 'center' })
})
</script>

<template>
  <section>
    <h2 class="mb-2">Rules</h2>
    <v-expansion-panels :key="chosen" variant="accordion" flat multiple :model-value="open">
      <v-expansion-panel v-for="r in rules" :id="`rule-${r.id}`" :key="r.id" :data-rule="r.id">
        <v-expansion-panel-title><span class="head"><SeverityTag :severity="r.severity" /> {{ r.id }} <span class="quiet">{{ r.basis }}</span></span></v-expansion-panel-title>
        <v-expansion-panel-text>
          <p><strong>Reports:</strong> {{ r.reports }}</p>
          <p class="mt-1"><strong>Not:</strong> {{ r.not }}</p>
          <p v-if="r.needs.length" class="mt-1 quiet">It needs a recorder that sees {{ r.needs.join(', ') }}.</p>
        </v-expansion-panel-text>
      </v-expansion-panel>
    </v-expansion-panels>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  align-items: center;
  gap: 10px;
}
</style>
