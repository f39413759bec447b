<script setup lang="ts">
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { useClipboard } from '@vueuse/core'

const props = defineProps<{ text: string; what: string }>()
// Without https, a browser has the old way of copying only.
const { copy, copied } = useClipboard({ source: () => props.text, legacy: true })
</script>

<template>
  <v-btn icon size="24" :aria-label="`Copy ${what}`" :title="copied ? 'Copied' : `Copy ${what}`" @click="copy()">
    <v-icon :icon="copied ? mdiCheck : mdiContentCopy" size="15" />
  </v-btn>
</template>
