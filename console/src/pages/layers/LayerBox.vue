<script setup lang="ts">
import type { StackRow } from '@/api/types'
import LifetimeTag from '@/components/LifetimeTag.vue'
import PlaceText from '@/components/PlaceText.vue'
import { useNames } from '@/composables/useNames'
import { rounded, whole } from '@/format'

/** The layers of a chain as boxes, each within the one around it, with the calls that reach it. */
const props = defineProps<{ layers: StackRow['layers']; used: boolean }>()
const names = useNames()
const most = Math.max(1, ...props.layers.map((l) => l.calls))
</script>

<template>
  <div v-if="layers[0]" class="layer" data-layer>
    <div class="line">
      <strong :title="layers[0].of.implementation ?? ''">{{ layers[0].of.implementation ? names.type(layers[0].of.implementation) : names.of(layers[0].of) }}</strong>
      <LifetimeTag :lifetime="layers[0].of.lifetime ?? ''" />
      <PlaceText v-if="layers[0].of.at" class="quiet" :at="layers[0].of.at" plain />
    </div>
    <div class="line small">
      <span class="track" aria-hidden="true"><span class="bar" :style="{ width: `${(100 * layers[0].calls) / most}%` }" /></span>
      <span v-if="used" :title="whole(layers[0].calls)">{{ rounded(layers[0].calls) }} calls reach it</span><span v-else class="quiet">calls were not recorded</span><span class="quiet">{{ rounded(layers[0].made) }} made</span>
    </div>
    <LayerBox v-if="layers.length > 1" :layers="layers.slice(1)" :used="used" />
  </div>
</template>

<style scoped>
.layer {
  margin-top: 8px;
  padding: 8px 12px 12px;
  border: 1.5px solid rgb(var(--v-theme-life));
  border-radius: 6px;
  background: rgba(var(--v-theme-band), 0.05);
}
.line {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  overflow-wrap: anywhere;
}
.small {
  font-size: 0.82rem;
  margin-top: 4px;
}
.track {
  width: 130px;
}
.bar {
  display: block;
  height: 9px;
  border-radius: 2px;
  background: rgb(var(--v-theme-life));
}
</style>
