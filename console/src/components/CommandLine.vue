<script setup lang="ts">
import CopyButton from '@/components/CopyButton.vue'

/** The same view as a command. */
defineProps<{ command: string }>()
</script>

<template>
  <div class="command quiet">
    <span>The same in the terminal:</span>
    <code class="code">{{ command }}</code>
    <CopyButton :text="command" what="the command" />
  </div>
</template>

<style scoped>
.command {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
}
</style>
