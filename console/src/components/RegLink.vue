<script setup lang="ts">
import { computed } from 'vue'

import type { Ref } from '@/api/types'
import { useNames } from '@/composables/useNames'
import { useHere } from '@/composables/useView'
import { nameOf, shorten } from '@/format'

import LifetimeTag from './LifetimeTag.vue'
import PlaceText from './PlaceText.vue'

/** A registration by name, which leads to its page; what it is made of and where it stands are below or on hover. */
const props = defineProps<{ of: Ref; full?: boolean; lifetime?: boolean; width?: number }>()
const here = useHere()
const names = useNames()
const name = computed(() => nameOf(props.of))
const shown = computed(() => (props.width ? shorten(names.of(props.of), props.width) : names.of(props.of)))
const implementation = computed(() => (props.of.implementation && props.of.implementation !== props.of.service ? props.of.implementation : ''))
const about = computed(() => [name.value, implementation.value, props.of.lifetime, props.of.at].filter(Boolean).join(' · '))
const to = computed(() => ({
  name: 'registrations',
  params: { recording: here?.recording.value ?? 'latest' },
  query: { service: props.of.service },
}))
</script>

<template>
  <span class="reg">
    <router-link v-if="here" class="app-link" :to="to" :title="about">{{ shown }}</router-link>
    <span v-else :title="about">{{ shown }}</span>
    <LifetimeTag v-if="lifetime" class="ml-2" :lifetime="of.lifetime ?? ''" />
    <span v-if="full" class="quiet about">
      <template v-if="implementation">{{ names.type(implementation) }}</template>
      <template v-if="of.at">{{ implementation ? ' · ' : '' }}<PlaceText :at="of.at" plain /></template>
    </span>
  </span>
</template>

<style scoped>
.reg {
  overflow-wrap: anywhere;
}
.about {
  display: block;
  font-size: 0.8rem;
}
</style>
