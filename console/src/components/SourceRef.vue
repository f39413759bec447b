<script setup lang="ts">
import { computed } from 'vue'

import type { Ref } from '@/api/types'
import PlaceText from '@/components/PlaceText.vue'
import RegLink from '@/components/RegLink.vue'
import { useNames } from '@/composables/useNames'

/** A registration by name, with its implementation, lifetime and place in the source. */
const props = defineProps<{ of: Ref; role?: string }>()
const names = useNames()
const implementation = computed(() => {
  const impl = props.of.implementation
  return impl && impl !== props.of.service ? impl : ''
})
const about = computed(() => [implementation.value && names.type(implementation.value), props.of.lifetime].filter(Boolean).join(' · '))
</script>

<template>
  <div class="ref">
    <div v-if="role" class="role quiet">{{ role }}</div>
    <div class="name"><RegLink :of="of" /></div>
    <div class="quiet small">{{ about }}</div>
    <div v-if="of.at"><PlaceText :at="of.at" /></div>
  </div>
</template>

<style scoped>
.ref {
  min-width: 0;
  overflow-wrap: anywhere;
}
.role,
.small {
  font-size: 0.8rem;
}
.name {
  font-weight: 600;
}
</style>
