<script setup lang="ts">
import { mdiArrowUp } from '@mdi/js'

/** Records that there is more than what is shown, so that nothing moves while it is read. */
defineProps<{ news: number }>()
defineEmits<{ show: [] }>()
</script>

<template>
  <div class="news" aria-live="polite">
    <v-btn v-if="news > 0" variant="flat" color="primary" :prepend-icon="mdiArrowUp" data-news @click="$emit('show')">{{ news }} new: show</v-btn>
  </div>
</template>

<style scoped>
.news {
  position: sticky;
  top: 56px;
  z-index: 5;
  height: 0;
  display: flex;
  justify-content: center;
}
</style>
