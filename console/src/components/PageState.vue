<script setup lang="ts">
import { mdiRefresh } from '@mdi/js'

import type { Problem } from '@/api/client'

/** What is in place of data that is not there: what is being waited for, or what went wrong. */
defineProps<{ error?: Problem; loading: boolean; what: string }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <v-alert v-if="error" type="error" :title="error.title" class="mb-4">
    {{ error.detail }}
    <template #append>
      <v-btn :prepend-icon="mdiRefresh" variant="outlined" @click="$emit('retry')">Try again</v-btn>
    </template>
  </v-alert>
  <div v-else-if="loading" class="waiting quiet" role="status">
    <v-progress-linear indeterminate color="primary" class="mb-2" />
    Reading {{ what }} …
  </div>
</template>

<style scoped>
.waiting {
  max-width: 420px;
  /* Nothing flashes up for what is there in a blink. */
  animation: appear 0.2s 0.3s both;
}
@keyframes appear {
  from {
    opacity: 0;
  }
}
</style>
