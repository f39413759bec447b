<script setup lang="ts">
/** The mark of an instance: the same wherever the instance is the same. */
defineProps<{ mark: string; instance: number }>()
</script>

<template>
  <span class="mark code" :title="`instance ${instance}`">{{ mark }}</span>
</template>

<style scoped>
.mark {
  display: inline-block;
  padding: 0 6px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 4px;
  white-space: nowrap;
}
</style>
