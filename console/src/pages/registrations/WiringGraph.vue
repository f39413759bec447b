<script setup lang="ts">
import { mdiCrosshairs, mdiFitToPageOutline, mdiFolderOpenOutline, mdiMagnify, mdiMagnifyMinusOutline, mdiMagnifyPlusOutline } from '@mdi/js'
import { computed, nextTick, onScopeDispose, ref, shallowRef, useTemplateRef, watch } from 'vue'

import { api, type ViewQuery } from '@/api/client'
import type { GraphNode, WiringMap } from '@/api/types'
import ExportMenu from '@/components/ExportMenu.vue'
import PageState from '@/components/PageState.vue'
import { useNames } from '@/composables/useNames'
import { useView } from '@/composables/useView'
import { count, nameOf, whole } from '@/format'

import { brief, layOut, nodeHeight, nodeWidth, type Layout } from './layout'

/**
 * Who is given what: boxes are registrations with the edge of their lifetime, or whole modules; lines go from consumers to what they need.
 * Lines from longer- to shorter-lived ones stand out. It begins with modules where there are many registrations; a module is opened, or
 * a registration shown with its neighbours, by a click.
 */
const props = defineProps<{ recording: string; filter: ViewQuery<'wiring'> }>()
const focus = defineModel<number>('focus', { required: true })
const module = defineModel<string>('module', { required: true })
const emit = defineEmits<{ search: [text: string] }>()
const names = useNames()
/** How many nodes are laid out before more are asked for. */
const few = 60
const more = ref(false)
const { data, error, refresh } = useView(
  () => props.recording,
  'wiring',
  () => ({ ...props.filter, limit: more.value ? 300 : few, near: focus.value >= 0 ? focus.value : undefined, open: focus.value < 0 && module.value ? module.value : undefined }),
)

// Of modules' names the parts are left out with which all begin, or end: those of the open one, and the others.
const moduleName = computed(() => {
  const inside = (name: string) => !!module.value && name.startsWith(module.value)
  const all = (data.value?.modules ?? []).map((m) => m.name)
  const [inner, outer] = [brief(all.filter(inside)), brief(all.filter((name) => !inside(name)))]
  return (name: string) => (names.inFull.value ? name : (inside(name) ? inner : outer)(name))
})

const laid = shallowRef<Layout>()
const failed = ref('')
const waiting = ref(false)
let stop: AbortController | undefined
// A live recording is read again and again; what has not changed in shape is not laid out again.
const shape = computed(() => JSON.stringify([data.value?.modules.map((m) => m.id), data.value?.nodes.map((n) => [n.id, names.of(n.registration)]), data.value?.edges.map((e) => [e.from, e.to])]))
watch(shape, draw, { immediate: true })
async function draw() {
  if (!data.value) return
  stop?.abort()
  const mine = (stop = new AbortController())
  waiting.value = true
  try {
    laid.value = await layOut(data.value, { of: names.of, module: moduleName.value }, mine.signal)
    failed.value = ''
    await nextTick()
    fit()
  } catch (caught) {
    if (!mine.signal.aborted) failed.value = String(caught)
  } finally {
    if (stop === mine) waiting.value = false
  }
}
function cancel() {
  stop?.abort()
  waiting.value = false
}
onScopeDispose(() => stop?.abort())

function choose(n: Layout['nodes'][number]) {
  if (n.module !== undefined) {
    module.value = n.module // modules are shown only while no registration is
  } else focus.value = n.id === focus.value ? -1 : n.id
}
const wholeGraph = () => api.view(props.recording, 'graph', {}, new AbortController().signal)

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
const byID = computed(() => new Map<number, string>([...(data.value?.modules ?? []).map((m): [number, string] => [m.id, m.name]), ...(data.value?.nodes ?? []).map((n: GraphNode): [number, string] => [n.id, nameOf(n.registration)])]))
const name = (id: number) => byID.value.get(id) ?? ''
const focused = computed(() => data.value?.nodes.find((n) => n.id === focus.value))
function summary(m: WiringMap): string {
  const wrong = m.edges.reduce((n, e) => n + e.wrong, 0) + m.modules.reduce((n, one) => n + one.wrong, 0)
  const what = [m.modules.length ? count(m.modules.length, 'module', 'modules') : '', m.nodes.length || !m.modules.length ? count(m.nodes.length, 'registration', 'registrations') : ''].filter(Boolean).join(', ')
  return `${what}, ${count(m.edges.length, 'line', 'lines')}, ${wrong} from longer- to shorter-lived${m.left_out ? `; ${whole(m.left_out)} more are left out` : ''}`
}
function lineTitle(e: Layout['edges'][number]): string {
  const what = `${name(e.from)} ${e.wraps ? 'wraps' : 'is given'} ${name(e.to)}`
  const often = e.count ? `, ${whole(e.count)} times` : ', according to its registration'
  const lines = e.lines > 1 ? `; ${count(e.lines, 'line', 'lines')} between their registrations` : ''
  return what + often + lines + (e.wrong ? `: ${e.lines > 1 ? `${e.wrong} from what lives longer to what lives shorter` : 'lives longer than what it is given'}` : '')
}
</script>

<template>
  <PageState v-if="error" :error="error" :loading="false" what="the wiring" @retry="refresh" />
  <div v-else>
    <Teleport v-if="data" to="#registrations-export"><ExportMenu name="wiring" :data="data" :fetch="wholeGraph" /></Teleport>
    <div class="tools mb-2">
      <v-text-field v-model="sought" class="seek" density="compact" variant="outlined" hide-details clearable label="Look for" :prepend-inner-icon="mdiMagnify" @keydown.enter="hits.size ? goTo() : emit('search', sought)" />
      <span class="quiet" role="status">{{ sought ? (hits.size ? `${hits.size} found` : 'not here; Enter looks among all registrations') : data ? summary(data) : '' }}</span>
      <v-btn v-if="data?.left_out && !more" size="small" variant="outlined" data-more @click="more = true">Show more</v-btn>
      <v-spacer />
      <v-chip v-if="focused" closable :prepend-icon="mdiCrosshairs" @click:close="focus = -1">{{ names.of(focused.registration) }} and its neighbours</v-chip>
      <v-chip v-else-if="module" closable :prepend-icon="mdiFolderOpenOutline" :title="module" data-module @click:close="module = ''">{{ module.length > 40 ? '…' + module.slice(-39) : module }}</v-chip>
      <v-btn :icon="mdiMagnifyPlusOutline" aria-label="Closer" title="Closer (+)" @click="zoomBy(1.25)" />
      <v-btn :icon="mdiMagnifyMinusOutline" aria-label="Further away" title="Further away (-)" @click="zoomBy(0.8)" />
      <v-btn :icon="mdiFitToPageOutline" aria-label="All of it" title="All of it (0)" @click="fit" />
    </div>
    <v-alert v-if="failed" type="error" title="The graph could not be laid out">{{ failed }}</v-alert>
    <div ref="box" class="plane" tabindex="0" role="group" aria-label="The wiring; arrow keys move, + and - zoom, Tab goes from one registration to the next" @wheel.prevent="wheel" @pointerdown="down" @pointermove="dragged" @pointerup="drag = undefined" @keydown="keys">
      <div v-if="waiting || !laid" class="quiet waiting" role="status">
        <v-progress-circular indeterminate size="18" width="2" class="mr-2" />
        {{ data ? `Laying out ${summary(data)} …` : 'Reading the wiring …' }}
        <v-btn v-if="waiting" size="small" variant="outlined" class="ml-3" @click="cancel">Cancel</v-btn>
      </div>
      <svg v-if="laid" width="100%" height="100%" :data-wiring="waiting ? undefined : ''" :class="{ old: waiting }">
        <defs>
          <marker id="head" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="8" markerHeight="8" markerUnits="userSpaceOnUse" orient="auto"><path class="head" d="M0 0 L8 4 L0 8 z" /></marker>
          <marker id="head-wrong" viewBox="0 0 12 12" refX="12" refY="6" markerWidth="12" markerHeight="12" markerUnits="userSpaceOnUse" orient="auto"><path class="head wrong" d="M0 0 L12 6 L0 12 z" /></marker>
        </defs>
        <g :transform="`translate(${at.x} ${at.y}) scale(${at.zoom})`">
          <path v-for="(e, n) in laid.edges" :key="n" :d="e.path" :class="['edge', { wrong: e.longToShorter, wraps: e.wraps, unseen: !e.count }]" :marker-end="e.longToShorter ? 'url(#head-wrong)' : 'url(#head)'">
            <title>{{ lineTitle(e) }}</title>
          </path>
          <g
            v-for="n in laid.nodes"
            :key="n.id"
            :transform="`translate(${n.x} ${n.y})`"
            :class="['node', n.lifetime, { hit: hits.has(n.id), faded: hits.size > 0 && !hits.has(n.id), focused: focus >= 0 && n.id === focus, internal: n.internal, module: n.module !== undefined }]"
            tabindex="0"
            role="button"
            :data-node="n.id"
            @click="choose(n)"
            @keydown.enter.stop="choose(n)"
          >
            <title>{{ n.full }}, {{ n.about }}</title>
            <rect v-if="n.module !== undefined" x="4" y="-4" :width="nodeWidth" :height="nodeHeight" rx="4" />
            <rect :width="nodeWidth" :height="nodeHeight" rx="4" />
            <rect v-if="n.lifetime === 'per-consumer'" class="inner" x="3" y="3" :width="nodeWidth - 6" :height="nodeHeight - 6" rx="3" />
            <text aria-hidden="true" x="10" y="18" class="service">{{ n.name }}</text>
            <text aria-hidden="true" x="10" y="35" class="about">{{ n.about }}</text>
          </g>
        </g>
      </svg>
    </div>
    <ul class="legend quiet" aria-label="How to read the graph">
      <li><svg width="34" height="10"><path class="edge" d="M0 5 H34" /></svg> is given</li>
      <li><svg width="34" height="10"><path class="edge unseen" d="M0 5 H34" /></svg> only registered so</li>
      <li><svg width="34" height="10"><path class="edge wraps" d="M0 5 H34" /></svg> wraps</li>
      <li><svg width="34" height="10"><path class="edge wrong" d="M0 5 H34" /></svg> what lives longer is given what lives shorter</li>
      <li>▲ counts such lines within a module</li>
      <li>a click opens a module, or shows a registration with its neighbours; the wheel zooms, dragging moves</li>
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
  position: absolute;
  z-index: 1;
  display: flex;
  align-items: center;
  margin: 12px;
  padding: 8px 12px;
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
}
.old {
  opacity: 0.4;
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
