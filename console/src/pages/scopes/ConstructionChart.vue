<script setup lang="ts">
import { mdiMagnifyMinusOutline, mdiMagnifyPlusOutline } from '@mdi/js'
import { useResizeObserver } from '@vueuse/core'
import { computed, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import type { Story } from '@/api/types'
import { useQuery } from '@/composables/useQuery'
import { useNames } from '@/composables/useNames'
import { useHere } from '@/composables/useView'
import { addressOf, shorten, took } from '@/format'

/** Construction nested in time: what stands below a bar was built for it. A bar that is clicked fills the width. */
const props = defineProps<{ story: Story; chosen: number }>()
const emit = defineEmits<{ choose: [instance: number, zoom: string] }>()
const router = useRouter()
const here = useHere()
const names = useNames()

const box = useTemplateRef<HTMLElement>('box')
const width = ref(1000)
useResizeObserver(box, ([entry]) => (width.value = Math.max(320, Math.floor(entry!.contentRect.width))))

const rowHeight = 26
// Makes that took no time that was noted still have a place.
const whole = computed(() => {
  const built = props.story.built
  const from = Math.min(...built.map((b) => b.from))
  const to = Math.max(...built.map((b) => b.from + b.took_ns))
  return { from, to: Math.max(to, from + 1) }
})
// What fills the width is in the address, as ns from and to.
const zoomed = useQuery().text('zoom', '', 'replace')
const zoom = computed({
  get: () => {
    const [from, to] = zoomed.value.split('_').map(Number)
    return zoomed.value && Number.isFinite(from) && Number.isFinite(to) && to! > from! ? { from: from!, to: to! } : undefined
  },
  set: (z: { from: number; to: number } | undefined) => (zoomed.value = z ? `${Math.round(z.from)}_${Math.round(z.to)}` : ''),
})
const seen = computed(() => zoom.value ?? whole.value)
const depth = computed(() => Math.max(...props.story.built.map((b) => b.depth)) + 1)
const x = (t: number) => ((t - seen.value.from) / (seen.value.to - seen.value.from)) * width.value

const bars = computed(() =>
  props.story.built
    .map((b) => {
      const from = Math.max(-4, x(b.from))
      const to = Math.min(width.value + 4, x(b.from + b.took_ns))
      const room = Math.floor((to - from - 8) / 7)
      const name = names.of(b.of)
      return {
        b,
        from,
        width: Math.max(2, to - from),
        y: b.depth * rowHeight,
        label: room >= 4 ? shorten(`${names.of(b.of)} ${took(b.took_ns)}`, room) : '',
        told: `${name} (${b.mark}): built in ${took(b.took_ns)}, ${took(b.own_ns)} of it its own, from ${took(b.from)} on`,
      }
    })
    .filter((d) => d.from < width.value && d.from + d.width > 0),
)
const ticks = computed(() => [0, 0.25, 0.5, 0.75, 1].map((p) => ({ x: p * width.value, text: took(Math.round(seen.value.from + p * (seen.value.to - seen.value.from))), anchor: p === 0 ? 'start' : p === 1 ? 'end' : 'middle' })))

function into(b: Story['built'][number]) {
  emit('choose', b.instance, b.took_ns > 0 ? `${Math.round(b.from)}_${Math.round(b.from + b.took_ns)}` : zoomed.value)
}
function by(factor: number) {
  const { from, to } = seen.value
  const middle = (from + to) / 2
  const half = ((to - from) / 2) * factor
  const next = { from: Math.max(whole.value.from, middle - half), to: Math.min(whole.value.to, middle + half) }
  zoom.value = next.from <= whole.value.from && next.to >= whole.value.to ? undefined : next
}
function open(instance: number) {
  if (here) void router.push({ name: 'instance', params: { recording: here.recording.value, instance: addressOf(props.story.scope.stream, instance) } })
}
</script>

<template>
  <div>
    <div class="tools quiet">
      <v-btn :icon="mdiMagnifyPlusOutline" aria-label="Closer" title="Closer" @click="by(0.5)" />
      <v-btn :icon="mdiMagnifyMinusOutline" aria-label="Further away" title="Further away" @click="by(2)" />
      <v-btn :disabled="!zoom" @click="zoom = undefined">All of it</v-btn>
      <span>click a bar to fill the width with it, double-click to open the instance</span>
    </div>
    <div ref="box" class="box">
      <svg :width="width" :height="depth * rowHeight + 24" role="group" aria-label="Construction in time; each bar is an instance, those below it were built for it" data-construction>
        <g
          v-for="d in bars"
          :key="d.b.instance"
          tabindex="0"
          role="button"
          :class="['bar', d.b.of.lifetime, { chosen: d.b.instance === chosen }]"
          @click="into(d.b)"
          @dblclick="open(d.b.instance)"
          @keydown.enter="into(d.b)"
          @keydown.o="open(d.b.instance)"
        >
          <title>{{ d.told }}</title>
          <rect :x="d.from" :y="d.y + 2" :width="d.width" :height="rowHeight - 4" rx="2" />
          <text v-if="d.label" aria-hidden="true" :x="Math.max(0, d.from) + 5" :y="d.y + 17">{{ d.label }}</text>
        </g>
        <g class="axis">
          <text v-for="t in ticks" :key="t.x" :x="t.x" :y="depth * rowHeight + 18" :text-anchor="t.anchor">{{ t.text }}</text>
        </g>
      </svg>
    </div>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
  font-size: 0.8rem;
}
.box {
  overflow: hidden;
}
svg {
  display: block;
}
.bar {
  cursor: pointer;
}
.bar rect {
  fill: color-mix(in srgb, rgb(var(--v-theme-life)) 26%, rgb(var(--v-theme-surface)));
  stroke: rgb(var(--v-theme-life));
  stroke-width: 1;
}
.bar.singleton rect {
  stroke-width: 2.5;
}
.bar.transient rect {
  stroke-dasharray: 6 4;
}
.bar.external rect {
  stroke-dasharray: 2 3;
}
.bar.chosen rect,
.bar:focus-visible rect {
  stroke: rgb(var(--v-theme-link));
  stroke-width: 3;
  stroke-dasharray: none;
}
.bar:focus {
  outline: none;
}
text {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 12px;
  pointer-events: none;
}
.axis text {
  font-size: 11px;
  opacity: 0.75;
}
</style>
