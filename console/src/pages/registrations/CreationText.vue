<script setup lang="ts">
import type { Creation } from '@/api/types'
import MarkTag from '@/components/MarkTag.vue'
import RegLink from '@/components/RegLink.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import TimeText from '@/components/TimeText.vue'

/** When, where and for whom an instance was made. */
defineProps<{ of: Creation }>()
</script>

<template>
  <span>
    {{ of.when }}, <TimeText :at="of.clock" />, <MarkTag :mark="of.mark" :instance="of.instance" :stream="of.stream" /> in
    <ScopeLink :scope="of.scope" :stream="of.stream" :name="of.scope_name" />
    <template v-if="of.by">, for <RegLink v-if="of.by.consumer" :of="of.by.consumer" /><template v-else>{{ of.by.entry || 'not seen' }}</template></template>
  </span>
</template>
