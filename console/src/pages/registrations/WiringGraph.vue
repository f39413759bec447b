<script setup lang="ts">
import { mdiCrosshairs, mdiFitToPageOutline, mdiMagnify, mdiMagnifyMinusOutline, mdiMagnifyPlusOutline } from '@mdi/js'
import { computed, nextTick, ref, shallowRef, useTemplateRef, watch } from 'vue'

import type { ViewQuery } from '@/api/client'
import type { Graph } from '@/api/types'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import { useNames } from '@/composables/useNames'
import { useView } from '@/composables/useView'
import { nameOf, whole } from '@/format'

import { layOut, nodeHeight, nodeWidth, type Layout } from './layout'

/**
 * Who is given what: boxes are registrations with the edge of their lifetime, lines go from who asks to what is asked.
 * Lines from longer- to shorter-lived ones stand out. A registration can be looked at with its neighbours alone.
 */
const props = defineProps<{ recording: string; filter: ViewQuery<'graph'> }>()
const names = useNames()
const { data, error, refresh } = useView(
  () => props.recording,
  'graph',
  () => ({ ...props.filter, limit: 5000 }),
)
const graph = computed<Graph>(() => data.value ?? { recording: props.recording, nodes: [], edges: [] })
const focus = defineModel<number>('focus', { required: true })

const neighbours = computed(() => {
  if (focus.value < 0) return undefined
  const near = new Set([focus.value])
  for (const e of graph.value.edges) {
    if (e.from === focus.value) near.add(e.to)
    if (e.to === focus.value) near.add(e.from)
  }
  return near
})
const seen = computed<Graph>(() => {
  const near = neighbours.value
  if (!near) return graph.value
  return {
    ...graph.value,
    nodes: graph.value.nodes.filter((n) => near.has(n.id)),
    edges: graph.value.edges.filter((e) => near.has(e.from) && near.has(e.to) && (e.from === focus.value || e.to === focus.value)),
  }
})

const laid = shallowRef<Layout>()
const failed = ref('')
// A live recording is read again and again; what has not changed in shape is not laid out anew.
const shape = computed(() => JSON.stringify([seen.value.nodes.map((n) => [n.id, names.of(n.registration)]), seen.value.edges.map((e) => [e.from, e.to])]))
watch(
  shape,
  async () => {
    if (!data.value) return
    const asked = shape.value
    try {
      const layout = await layOut(seen.value, names.of)
      if (asked !== shape.value) return
      laid.value = layout
      failed.value = ''
      await nextTick()
      fit()
    } catch (caught) {
      failed.value = String(caught)
    }
  },
  { immediate: true },
)

// What is seen of the plane.
const box = useTemplateRef<HTMLElement>('box')
const at = ref({ x: 0, y: 0, zoom: 1 })
function fit() {
  const l = laid.value
  if (!l || !box.value) return
  const { clientWidth: w, clientHeight: h } = box.value
  const zoom = Math.min(1.2, Math.max(0.08, Math.min((w - 40) / Math.max(1, l.width), (h - 40) / Math.max(1, l.height))))
  at.value = { zoom, x: (w - l.width * zoom) / 2, y: (h - l.height * zoom) / 2 }
}
function zoomBy(factor: number, cx = (box.value?.clientWidth ?? 0) / 2, cy = (box.value?.clientHeight ?? 0) / 2) {
  const zoom = Math.min(3, Math.max(0.08, at.value.zoom * factor))
  const k = zoom / at.value.zoom
  at.value = { zoom, x: cx - (cx - at.value.x) * k, y: cy - (cy - at.value.y) * k }
}
function wheel(event: WheelEvent) {
  const r = box.value!.getBoundingClientRect()
  zoomBy(Math.exp(-event.deltaY / 400), event.clientX - r.left, event.clientY - r.top)
}
let drag: { x: number; y: number } | undefined
function down(event: PointerEvent) {
  if ((event.target as Element).closest('[data-node]')) return
  drag = { x: event.clientX - at.value.x, y: event.clientY - at.value.y }
  box.value?.setPointerCapture(event.pointerId)
}
function dragged(event: PointerEvent) {
  if (drag) at.value = { ...at.value, x: event.clientX - drag.x, y: event.clientY - drag.y }
}
function keys(event: KeyboardEvent) {
  const steps: Record<string, [number, number]> = { ArrowUp: [0, 60], ArrowDown: [0, -60], ArrowLeft: [60, 0], ArrowRight: [-60, 0] }
  const step = steps[event.key]
  if (step) at.value = { ...at.value, x: at.value.x + step[0], y: at.value.y + step[1] }
  else if (event.key === '+') zoomBy(1.25)
  else if (event.key === '-') zoomBy(0.8)
  else if (event.key === '0') fit()
  else return
  event.preventDefault()
}

const sought = ref('')
const hits = computed(() => {
  const part = sought.value?.toLowerCase() ?? ''
  return new Set(part ? (laid.value?.nodes ?? []).filter((n) => n.full.toLowerCase().includes(part)).map((n) => n.id) : [])
})
function goTo() {
  const first = laid.value?.nodes.find((n) => hits.value.has(n.id))
  if (!first || !box.value) return
  const zoom = Math.max(0.8, at.value.zoom)
  at.value = { zoom, x: box.value.clientWidth / 2 - (first.x + nodeWidth / 2) * zoom, y: box.value.clientHeight / 2 - (first.y + nodeHeight / 2) * zoom }
}
const focused = computed(() => graph.value.nodes.find((n) => n.id === focus.value))
const wrong = computed(() => seen.value.edges.filter((e) => e.long_to_shorter).length)
const name = (id: number) => {
  const n = graph.value.nodes.find((n) => n.id === id)
  return n ? nameOf(n.registration) : ''
}
</script>

<template>
  <PageState v-if="error" :error="error" :loading="false" what="the wiring" @retry="refresh" />
  <div v-else>
    <Teleport v-if="data" to="#registrations-export"><ExportMenu name="wiring" :data="graph" /></Teleport>
    <div class="tools mb-2">
      <v-text-field v-model="sought" class="seek" density="compact" variant="outlined" hide-details clearable label="Look for" :prepend-inner-icon="mdiMagnify" @keydown.enter="goTo" />
      <span class="quiet" role="status">{{ sought ? `${hits.size} found` : `${seen.nodes.length} registrations, ${seen.edges.length} lines, ${wrong} from longer- to shorter-lived` }}</span>
      <v-spacer />
      <v-chip v-if="focused" closable :prepend-icon="mdiCrosshairs" @click:close="focus = -1">{{ nameOf(focused.registration) }} and its neighbours</v-chip>
      <v-btn :icon="mdiMagnifyPlusOutline" aria-label="Closer" title="Closer (+)" @click="zoomBy(1.25)" />
      <v-btn :icon="mdiMagnifyMinusOutline" aria-label="Further away" title="Further away (-)" @click="zoomBy(0.8)" />
      <v-btn :icon="mdiFitToPageOutline" aria-label="All of it" title="All of it (0)" @click="fit" />
    </div>
    <v-alert v-if="failed" type="error" title="The graph could not be laid out">{{ failed }}</v-alert>
    <div ref="box" class="plane" tabindex="0" role="group" aria-label="The wiring; arrow keys move, + and - zoom, Tab goes from one registration to the next" @wheel.prevent="wheel" @pointerdown="down" @pointermove="dragged" @pointerup="drag = undefined" @keydown="keys">
      <div v-if="!laid" class="quiet waiting" role="status">{{ data ? `Laying out ${seen.nodes.length} registrations …` : 'Reading the wiring …' }}</div>
      <svg v-else width="100%" height="100%" data-wiring>
        <defs>
          <marker id="head" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="8" markerHeight="8" markerUnits="userSpaceOnUse" orient="auto"><path class="head" d="M0 0 L8 4 L0 8 z" /></marker>
          <marker id="head-wrong" viewBox="0 0 12 12" refX="12" refY="6" markerWidth="12" markerHeight="12" markerUnits="userSpaceOnUse" orient="auto"><path class="head wrong" d="M0 0 L12 6 L0 12 z" /></marker>
        </defs>
        <g :transform="`translate(${at.x} ${at.y}) scale(${at.zoom})`">
          <path v-for="(e, n) in laid.edges" :key="n" :d="e.path" :class="['edge', { wrong: e.longToShorter, wraps: e.wraps, unseen: !e.count }]" :marker-end="e.longToShorter ? 'url(#head-wrong)' : 'url(#head)'">
            <title>{{ name(e.from) }} {{ e.wraps ? 'wraps' : 'is given' }} {{ name(e.to) }}{{ e.count ? `, ${whole(e.count)} times` : ', by what is registered' }}{{ e.longToShorter ? ': lives longer than what it is given' : '' }}</title>
          </path>
          <g
            v-for="n in laid.nodes"
            :key="n.id"
            :transform="`translate(${n.x} ${n.y})`"
            :class="['node', n.lifetime, { hit: hits.has(n.id), faded: hits.size > 0 && !hits.has(n.id), focused: n.id === focus, internal: n.internal }]"
            tabindex="0"
            role="button"
            :data-node="n.id"
            @click="focus = n.id === focus ? -1 : n.id"
            @keydown.enter.stop="focus = n.id === focus ? -1 : n.id"
          >
            <title>{{ n.full }}, {{ n.lifetime || 'lifetime not said' }}, {{ whole(n.made) }} made</title>
            <rect :width="nodeWidth" :height="nodeHeight" rx="4" />
            <rect v-if="n.lifetime === 'per-consumer'" class="inner" x="3" y="3" :width="nodeWidth - 6" :height="nodeHeight - 6" rx="3" />
            <text aria-hidden="true" x="10" y="18" class="service">{{ n.name }}</text>
            <text aria-hidden="true" x="10" y="35" class="about">{{ n.lifetime || 'lifetime not said' }} · {{ whole(n.made) }} made</text>
          </g>
        </g>
      </svg>
    </div>
    <ul class="legend quiet" aria-label="How to read the graph">
      <li><svg width="34" height="10"><path class="edge" d="M0 5 H34" /></svg> is given</li>
      <li><svg width="34" height="10"><path class="edge unseen" d="M0 5 H34" /></svg> only registered so</li>
      <li><svg width="34" height="10"><path class="edge wraps" d="M0 5 H34" /></svg> wraps</li>
      <li><svg width="34" height="10"><path class="edge wrong" d="M0 5 H34" /></svg> what lives longer is given what lives shorter</li>
      <li>a click shows a registration with its neighbours; the wheel zooms, dragging moves</li>
    </ul>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}
.seek {
  flex: 0 0 240px;
}
.plane {
  height: calc(100vh - 290px);
  min-height: 380px;
  overflow: hidden;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.15);
  border-radius: 8px;
  background: rgb(var(--v-theme-surface));
  cursor: grab;
  touch-action: none;
}
.plane:focus-visible {
  outline: 2px solid rgb(var(--v-theme-link));
}
.waiting {
  padding: 16px;
}
.node {
  cursor: pointer;
}
.node rect {
  fill: rgb(var(--v-theme-surface));
  stroke: rgb(var(--v-theme-life));
  stroke-width: 1.2;
}
.node.singleton rect {
  stroke-width: 3;
}
.node.transient rect {
  stroke-dasharray: 6 4;
}
.node.external rect {
  stroke-dasharray: 2 3;
  stroke-width: 2;
}
.node .inner {
  fill: none;
}
.node.internal rect {
  fill: color-mix(in srgb, rgb(var(--v-theme-on-surface)) 6%, rgb(var(--v-theme-surface)));
}
.node.hit rect,
.node.focused rect,
.node:focus-visible rect {
  stroke: rgb(var(--v-theme-link));
  stroke-width: 4;
}
.node.faded {
  opacity: 0.35;
}
.node:focus {
  outline: none;
}
text {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 12.5px;
}
.service {
  font-weight: 600;
}
.about {
  font-size: 11px;
  opacity: 0.75;
}
.edge {
  fill: none;
  stroke: rgba(var(--v-theme-on-surface), 0.45);
  stroke-width: 1.2;
}
.edge.unseen {
  stroke-dasharray: 3 4;
}
.edge.wraps {
  stroke-width: 3;
  stroke: rgba(var(--v-theme-on-surface), 0.3);
}
.edge.wrong {
  stroke: rgb(var(--v-theme-error));
  stroke-width: 2.6;
}
.head {
  fill: rgba(var(--v-theme-on-surface), 0.6);
}
.head.wrong {
  fill: rgb(var(--v-theme-error));
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
  list-style: none;
  padding: 8px 0 0;
  font-size: 0.8rem;
}
</style>
