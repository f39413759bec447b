<script setup lang="ts">
import { computed } from 'vue'

import { useHere } from '@/composables/useView'
import { addressOf, shorten } from '@/format'

/** A scope by its number and name, which leads to its story. */
const props = withDefaults(defineProps<{ scope: number; stream?: number; name?: string; mark?: number; width?: number }>(), { stream: 0, name: '', mark: 0, width: 0 })
const here = useHere()
// Scope 0 is the root of the stream's first container, and is known by that name.
const address = computed(() => addressOf(props.stream, props.scope === 0 ? 'root' : props.scope))
const shown = computed(() => (props.name && props.name !== address.value ? ' ' + (props.width ? shorten(props.name, props.width) : props.name) : ''))
</script>

<template>
  <router-link
    class="app-link"
    :to="{ name: 'scope', params: { recording: here?.recording.value ?? 'latest', scope: address }, query: mark ? { instance: mark } : {} }"
    :title="`scope ${address}${name ? ', ' + name : ''}`"
    ><span class="num">{{ address }}</span
    >{{ shown }}</router-link
  >
</template>
