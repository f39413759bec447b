<script setup lang="ts">
import { computed } from 'vue'

import { useHere } from '@/composables/useView'
import { addressOf, shorten } from '@/format'

/** A scope by its number and name, which leads to its story. */
const props = withDefaults(defineProps<{ scope: number; stream?: number; name?: string; mark?: number; width?: number }>(), { stream: 0, name: '', mark: 0, width: 0 })
const here = useHere()
const address = computed(() => addressOf(props.stream, props.scope))
const shown = computed(() => (props.name ? ' ' + (props.width ? shorten(props.name, props.width) : props.name) : ''))
</script>

<template>
  <span v-if="scope === 0" class="quiet">the root</span>
  <router-link
    v-else
    class="app-link"
    :to="{ name: 'scope', params: { recording: here?.recording.value ?? 'latest', scope: address }, query: mark ? { instance: mark } : {} }"
    :title="`scope ${address}${name ? ', ' + name : ''}`"
    ><span class="num">{{ address }}</span
    >{{ shown }}</router-link
  >
</template>
