<script setup lang="ts">
import { computed } from 'vue'

import CopyButton from '@/components/CopyButton.vue'
import { useNames } from '@/composables/useNames'

/** A place in the source: the end of its path, the whole of it on hover and for the clipboard. A line breaks between folders. */
const props = defineProps<{ at: string; plain?: boolean }>()
const names = useNames()
const parts = computed(() => names.place(props.at).split(/(?<=[^…][/\\])/))
</script>

<template>
  <span class="code place" :title="at"><template v-for="(part, n) in parts" :key="n"><wbr v-if="n" />{{ part }}</template><CopyButton v-if="!plain" :text="at" what="the place in the source" /></span>
</template>

<style scoped>
.place {
  overflow-wrap: break-word;
}
</style>
