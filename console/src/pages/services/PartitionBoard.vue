<script setup lang="ts">
import { computed } from 'vue'

import type { ServiceList } from '@/api/types'

import { holders, letterOf } from './partitions'

/** Which service works on which partition, a cell each. */
const props = defineProps<{ list: ServiceList; place: (id: string | undefined) => number }>()
const cells = computed(() => holders(props.list))
const at = (holder: number) => props.place(props.list.services[holder]?.id)
const told = (n: number, holder: number) => (holder < 0 ? `Partition ${n}: no service works on it yet` : `Partition ${n}: service ${props.list.services[holder]?.id}`)
</script>

<template>
  <section>
    <h2 class="mb-2">Partitions</h2>
    <ol class="board" aria-label="Which service works on which partition">
      <li v-for="(holder, n) in cells" :key="n" :class="{ free: holder < 0 }" :style="holder < 0 ? {} : { background: `var(--service-${at(holder) % 6})` }" :title="told(n, holder)" :data-partition="n">
        <span class="at">{{ n }}</span>
        <span aria-hidden="true">{{ holder < 0 ? '–' : letterOf(at(holder)) }}</span>
        <span class="only-read">{{ told(n, holder) }}</span>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.board {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(44px, 1fr));
  gap: 3px;
  padding: 0;
  list-style: none;
}
li {
  position: relative;
  height: 40px;
  display: flex;
  align-items: center;
  justify-content: center;
  border-radius: 3px;
  color: #fff;
  font-weight: 600;
}
li.free {
  color: inherit;
  border: 1px dashed rgba(var(--v-theme-on-surface), 0.6);
}
.at {
  position: absolute;
  top: 1px;
  left: 4px;
  font-size: 10px;
  font-weight: 400;
}
.only-read {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
</style>
