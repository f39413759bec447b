<script setup lang="ts">
import { useHere } from '@/composables/useView'
import { addressOf } from '@/format'

/** The mark of an instance: the same wherever the instance is the same. It leads to what is known of it. */
withDefaults(defineProps<{ mark: string; instance: number; stream?: number; plain?: boolean }>(), { stream: 0 })
const here = useHere()
</script>

<template>
  <router-link
    v-if="here && !plain"
    class="mark code"
    :to="{ name: 'instance', params: { recording: here.recording.value, instance: addressOf(stream, instance) } }"
    :title="`instance ${instance}`"
    >{{ mark }}</router-link
  >
  <span v-else class="mark code" :title="`instance ${instance}`">{{ mark }}</span>
</template>

<style scoped>
.mark {
  display: inline-block;
  padding: 0 6px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 4px;
  white-space: nowrap;
  color: inherit;
  text-decoration: none;
}
a.mark:hover,
a.mark:focus-visible {
  border-color: rgb(var(--v-theme-link));
  color: rgb(var(--v-theme-link));
}
</style>
