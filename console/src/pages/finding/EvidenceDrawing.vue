<script setup lang="ts">
import { useResizeObserver } from '@vueuse/core'
import { computed, ref } from 'vue'

import type { Evidence } from '@/api/types'
import { useNames } from '@/composables/useNames'
import { shorten, took } from '@/format'

import { depthOf, livesInOrder, scaleOf } from './evidence'

/**
 * Lives as bars over the scopes they ran in. A life's edge shows its lifetime, its end how it ended; a use after the end
 * is a cross past the bar, and never drawn like the others.
 */
const names = useNames()
const props = defineProps<{ evidence: Evidence; trueToScale: boolean }>()

const box = ref<HTMLElement>()
const width = ref(1100)
useResizeObserver(box, ([entry]) => (width.value = Math.max(640, Math.floor(entry!.contentRect.width))))

const labels = 250
const right = 28
const top = 40
const rowHeight = 66
const barHeight = 16

const scale = computed(() => scaleOf(props.evidence, props.trueToScale))
const plot = computed(() => width.value - labels - right)
const x = (t: number) => labels + scale.value(t) * plot.value
const lives = computed(() => livesInOrder(props.evidence))
const height = computed(() => top + lives.value.length * rowHeight + 26)
const rowOf = computed(() => new Map(lives.value.map((l, n) => [l.instance, n])))
const yOf = (instance: number) => top + (rowOf.value.get(instance) ?? 0) * rowHeight + 30

const bands = computed(() =>
  props.evidence.scopes.map((s) => {
    const from = x(s.opened)
    const to = s.closed === null ? width.value - right + 10 : x(s.closed)
    const depth = depthOf(props.evidence, s.scope)
    const name = s.name || s.kind || 'scope'
    const room = Math.floor((to - from) / 6.6)
    return {
      ...s,
      from,
      width: Math.max(2, to - from),
      y: top - 26 + depth * 13,
      depth,
      label: room >= name.length + String(s.scope).length + 1 ? `${s.scope} ${name}` : room >= String(s.scope).length ? String(s.scope) : '',
      told: `scope ${s.scope}, ${name}: open ${s.closed === null ? 'still' : 'for ' + took(s.closed - s.opened)}`,
    }
  }),
)

const bars = computed(() =>
  lives.value.map((l) => {
    const from = x(l.made)
    const to = l.ended === null ? width.value - right + 4 : Math.max(from + 3, x(l.ended))
    const y = yOf(l.instance)
    const holds = props.evidence.keeps.filter((k) => k.kept === l.instance)
    // A kept one that has ended is held on to until its holder ends.
    const heldTo = l.ended !== null && holds.length ? Math.max(...holds.map((k) => endOf(k.holder))) : 0
    return {
      ...l,
      from,
      to,
      y,
      name: names.of(l.of),
      heldTo: heldTo > to + 6 ? heldTo : 0,
      border: `edge-${l.of.lifetime || 'unknown'}`,
      told: `${l.mark} (instance ${l.instance}), ${l.role}: made at ${took(l.made)}, ${l.ended === null ? 'still alive' : `${l.end} at ${took(l.ended)}`}`,
    }
  }),
)

function endOf(instance: number): number {
  const l = props.evidence.lives.find((l) => l.instance === instance)
  return !l || l.ended === null ? width.value - right + 4 : x(l.ended)
}

const keeps = computed(() =>
  props.evidence.keeps.map((k) => ({ ...k, x: x(k.at), y1: yOf(k.holder) + barHeight, y2: yOf(k.kept) })),
)

const ticks = computed(() =>
  props.evidence.uses.map((u, n) => ({
    ...u,
    n,
    x: x(u.at),
    y: yOf(u.instance),
    shape: u.after ? 'after' : u.kind,
    told: `${u.kind === 'use' ? 'used' : 'handed out'}${u.by ? (u.kind === 'use' ? ' by ' : ' to ') + names.prose(u.by) : ''}${u.scope === null ? '' : ` in scope ${u.scope}`} at ${took(u.at)}${u.after ? ', after its end' : ''}`,
  })),
)

const axis = computed(() => {
  const marks: { x: number; text: string }[] = []
  let last = -Infinity
  const end = { x: width.value - right, text: took(props.evidence.to) }
  for (const t of [props.evidence.from, ...props.evidence.scopes.map((s) => s.opened), props.evidence.to].sort((a, b) => a - b)) {
    const at = x(t)
    if (at - last < 70 || at > end.x - 70) continue
    marks.push({ x: at, text: took(t) })
    last = at
  }
  marks.push(end)
  return marks
})

const summary = computed(() => {
  const after = props.evidence.uses.filter((u) => u.after && u.kind === 'use').length
  return `${bars.value.map((b) => b.told).join('; ')}. ${after} uses after an end.`
})

function jag(b: { to: number; y: number }): string {
  const { to, y } = b
  return `M${to} ${y} l5 ${barHeight / 4} l-5 ${barHeight / 4} l5 ${barHeight / 4} l-5 ${barHeight / 4}`
}
</script>

<template>
  <div ref="box" class="drawing">
    <svg :width="width" :height="height" :viewBox="`0 0 ${width} ${height}`" role="img" :aria-label="summary" data-evidence>
      <g v-for="b in bands" :key="b.scope" class="band">
        <title>{{ b.told }}</title>
        <rect :x="b.from" :y="b.y" :width="b.width" :height="height - 24 - b.y" rx="2" :class="{ open: b.closed === null }" />
        <text v-if="b.label" :x="b.from + 4" :y="b.y + 11">{{ b.label }}</text>
      </g>

      <g v-for="k in keeps" :key="`${k.holder}-${k.kept}`">
        <title>keeps it from {{ took(k.at) }} on</title>
        <line class="keep" :x1="k.x" :x2="k.x" :y1="k.y1" :y2="k.y2" />
        <path class="keep-head" :d="`M${k.x - 4} ${k.y2 - 6} l4 6 l4 -6`" />
      </g>

      <g v-for="b in bars" :key="b.instance" :data-life="b.role">
        <title>{{ b.told }}</title>
        <text class="role" :x="0" :y="b.y - 8">{{ b.role }}</text>
        <text class="name" :x="0" :y="b.y + 8">{{ shorten(b.name, 30) }}</text>
        <text class="mark" :x="0" :y="b.y + 24">{{ b.mark }} · {{ b.of.lifetime || 'lifetime unknown' }}</text>
        <line v-if="b.heldTo" class="held" :x1="b.to + 6" :x2="b.heldTo" :y1="b.y + barHeight / 2" :y2="b.y + barHeight / 2" />
        <rect :x="b.from" :y="b.y" :width="b.to - b.from" :height="barHeight" :class="['life', b.border, { gone: b.role === 'kept' || b.role === 'subject' }]" />
        <rect v-if="b.of.lifetime === 'per-consumer'" :x="b.from + 3" :y="b.y + 3" :width="Math.max(0, b.to - b.from - 6)" :height="barHeight - 6" class="inner" />
        <line v-if="b.end === 'disposed'" class="end" :x1="b.to" :x2="b.to" :y1="b.y - 4" :y2="b.y + barHeight + 4" />
        <path v-else-if="b.end === 'home closed'" class="end" :d="jag(b)" />
        <path v-else-if="b.end === 'forgotten'" class="end fading" :d="`M${b.to} ${b.y + barHeight / 2} h14`" />
        <path v-else class="end" :d="`M${b.to} ${b.y + 2} l8 ${barHeight / 2 - 2} l-8 ${barHeight / 2 - 2}`" />
      </g>

      <g v-for="u in ticks" :key="u.n" :class="['tick', u.shape]" :data-use="u.shape">
        <title>{{ u.told }}</title>
        <path v-if="u.after" :d="`M${u.x - 5} ${u.y + 3} l10 10 m0 -10 l-10 10`" />
        <path v-else-if="u.kind === 'use'" :d="`M${u.x} ${u.y - 5} v5`" />
        <circle v-else :cx="u.x" :cy="u.y + barHeight + 6" r="3" />
        <rect class="hit" :x="u.x - 7" :y="u.y - 6" width="14" :height="barHeight + 16" />
      </g>

      <g class="axis">
        <line :x1="labels" :x2="width - right" :y1="height - 20" :y2="height - 20" />
        <g v-for="m in axis" :key="m.x">
          <line :x1="m.x" :x2="m.x" :y1="height - 20" :y2="height - 15" />
          <text :x="m.x" :y="height - 4">{{ m.text }}</text>
        </g>
      </g>
    </svg>
    <ul class="legend quiet" aria-label="How to read the drawing">
      <li><svg width="26" height="14"><line class="end" x1="20" x2="20" y1="0" y2="14" /><rect class="life" x="1" y="3" width="19" height="8" /></svg>disposed</li>
      <li><svg width="26" height="14"><rect class="life" x="1" y="2" width="19" height="10" /><path class="end" d="M20 2 l4 2.500 l-4 2.500 l4 2.500 l-4 2.500" /></svg>its scope closed</li>
      <li><svg width="26" height="14"><rect class="life" x="1" y="3" width="17" height="8" /><path class="end" d="M18 3 l6 4 l-6 4" /></svg>still alive</li>
      <li><svg width="26" height="14"><line class="held" x1="1" x2="25" y1="7" y2="7" /></svg>held past its end</li>
      <li><svg width="14" height="14" class="tick use"><path d="M7 2 v9" /></svg>used</li>
      <li><svg width="14" height="14" class="tick after"><path d="M2 2 l10 10 m0 -10 l-10 10" /></svg>used or handed out after its end</li>
      <li><svg width="14" height="14" class="tick give"><circle cx="7" cy="7" r="3" /></svg>handed out</li>
      <li v-if="evidence.more">{{ evidence.more }} more events on these lives are not drawn</li>
    </ul>
  </div>
</template>

<style scoped>
.drawing {
  overflow-x: auto;
}
svg {
  display: block;
}
text {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 12px;
}
.name {
  font-weight: 600;
  font-size: 13px;
}
.role,
.mark,
.axis text {
  opacity: 0.75;
}
.mark {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
}
.band rect {
  fill: rgba(var(--v-theme-band), 0.09);
  stroke: rgba(var(--v-theme-band), 0.35);
  stroke-width: 1;
}
.band rect.open {
  stroke-dasharray: 4 3;
}
.band text {
  font-size: 11px;
  opacity: 0.85;
}
.life {
  fill: rgba(var(--v-theme-life), 0.32);
  stroke: rgb(var(--v-theme-life));
  stroke-width: 1.2;
}
.edge-singleton {
  stroke-width: 3;
}
.edge-transient {
  stroke-dasharray: 6 4;
}
.edge-external {
  stroke-dasharray: 1.5 3;
  stroke-width: 2;
}
.inner {
  fill: none;
  stroke: rgb(var(--v-theme-life));
}
.end {
  fill: none;
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 2;
}
.fading {
  stroke-dasharray: 3 3;
  opacity: 0.6;
}
.keep {
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.2;
}
.keep-head {
  fill: none;
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.2;
}
.held {
  stroke: rgb(var(--v-theme-error));
  stroke-width: 2;
  stroke-dasharray: 2 5;
}
.tick path {
  fill: none;
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.6;
}
.tick.after path {
  stroke: rgb(var(--v-theme-error));
  stroke-width: 2.4;
}
.tick circle {
  fill: rgb(var(--v-theme-surface));
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.4;
}
.hit {
  fill: transparent;
}
.axis line {
  stroke: rgba(var(--v-theme-on-surface), 0.5);
}
.axis text {
  text-anchor: middle;
  font-size: 11px;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 18px;
  list-style: none;
  padding: 8px 0 0;
  font-size: 0.8rem;
}
.legend li {
  display: flex;
  align-items: center;
  gap: 6px;
}
</style>
