<script setup lang="ts">
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { ref } from 'vue'

const props = defineProps<{ text: string; what: string }>()
const copied = ref(false)

async function copy() {
  await navigator.clipboard.writeText(props.text)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <v-btn icon size="24" :aria-label="`Copy ${what}`" :title="copied ? 'Copied' : `Copy ${what}`" @click="copy">
    <v-icon :icon="copied ? mdiCheck : mdiContentCopy" size="15" />
  </v-btn>
</template>
