<script setup lang="ts">
import { computed } from 'vue'

import { localTime } from '@/format'

/** A time in local time; the precise value is on hover. */
const props = defineProps<{ at: string }>()
const shown = computed(() => localTime(props.at))
</script>

<template>
  <time :datetime="at" :title="at" class="num">{{ shown }}</time>
</template>
