<script setup lang="ts">
import { mdiFilterVariant } from '@mdi/js'
import { watchDebounced } from '@vueuse/core'
import { ref, watch } from 'vue'

import { useQuery } from '@/composables/useQuery'

/** What narrows most views; it is in the address. */
const props = withDefaults(defineProps<{ module?: boolean; lifetime?: boolean }>(), { lifetime: true })
const { text, choice } = useQuery()
const service = text('service', '', 'replace')
const chosenLifetime = choice('lifetime')
const chosenModule = text('module', '', 'replace')
const lifetimes = ['singleton', 'scoped', 'transient', 'per-consumer', 'external']

// What is typed is asked for when the typing rests.
const typed = ref(service.value)
const typedModule = ref(chosenModule.value)
watchDebounced(typed, (value) => (service.value = value ?? ''), { debounce: 250 })
watchDebounced(typedModule, (value) => (chosenModule.value = value ?? ''), { debounce: 250 })
watch(service, (value) => (typed.value = value))
watch(chosenModule, (value) => (typedModule.value = value))
</script>

<template>
  <div class="filters">
    <v-text-field v-model="typed" class="wide" density="compact" variant="outlined" hide-details clearable label="Service, key or implementation" :prepend-inner-icon="mdiFilterVariant" data-filter />
    <v-select v-if="props.lifetime" v-model="chosenLifetime" class="narrow" density="compact" variant="outlined" hide-details clearable label="Lifetime" :items="lifetimes" />
    <v-text-field v-if="props.module" v-model="typedModule" class="narrow" density="compact" variant="outlined" hide-details clearable label="Module" />
    <slot />
    <span class="grow" />
    <slot name="end" />
  </div>
</template>

<style scoped>
.filters {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
  margin-bottom: 12px;
}
.wide {
  flex: 0 1 320px;
  min-width: 220px;
}
.narrow {
  flex: 0 1 180px;
  min-width: 140px;
}
.grow {
  flex: 1;
}
</style>
