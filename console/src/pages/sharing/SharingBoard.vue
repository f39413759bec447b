<script setup lang="ts">
import { mdiChevronDown, mdiChevronRight } from '@mdi/js'
import { useVirtualList } from '@vueuse/core'
import { computed, nextTick, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import type { Board, Ref } from '@/api/types'
import MarkTag from '@/components/MarkTag.vue'
import RegLink from '@/components/RegLink.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import { useHere } from '@/composables/useView'
import { useNames } from '@/composables/useNames'
import { addressOf, count, nameOf, shorten, took } from '@/format'

import BoardLine from './BoardLine.vue'

/**
 * Rows are consumers with what they asked for, columns scopes. A cell that equals its left neighbour is quiet, one that
 * changed stands out by its shape; arrow keys move, Enter opens the instance.
 */
const props = defineProps<{ board: Board; folded: Set<string> }>()
const emit = defineEmits<{ fold: [service: string] }>()
const router = useRouter()
const here = useHere()
const names = useNames()

type Row = { kind: 'service'; name: string; of: Ref; n: number; differs: boolean; key: string } | { kind: 'row'; row: Board['rows'][number]; key: string; nth: number }

const rows = computed<Row[]>(() => {
  const groups = new Map<string, Board['rows']>()
  for (const r of props.board.rows) {
    const name = nameOf(r.of)
    groups.set(name, [...(groups.get(name) ?? []), r])
  }
  const list: Row[] = []
  let nth = 0
  for (const [name, group] of groups) {
    list.push({ kind: 'service', name, of: group[0]!.of, n: group.length, differs: group.some((r) => r.observed.agrees === false), key: 's' + name })
    if (props.folded.has(name)) continue
    group.forEach((row, k) => list.push({ kind: 'row', row, key: `r${name}/${k}`, nth: nth++ }))
  }
  return list
})
const shown = computed(() => rows.value.filter((r) => r.kind === 'row'))

// A board may have ten thousand cells: rows that are out of sight are only room.
const rowHeight = 28
const { list: inSight, containerProps, wrapperProps, scrollTo } = useVirtualList(rows, { itemHeight: rowHeight, overscan: 16 })

// Movement by keys: one cell at a time can be reached with Tab.
const at = ref({ row: 0, column: 0 })
const table = useTemplateRef<HTMLTableElement>('table')
function move(event: KeyboardEvent) {
  const steps: Record<string, [number, number]> = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1], PageUp: [-10, 0], PageDown: [10, 0] }
  const last = { row: shown.value.length - 1, column: props.board.scopes.length - 1 }
  let { row, column } = at.value
  if (event.key === 'Home') column = 0
  else if (event.key === 'End') column = last.column
  else if (event.key === 'Enter') return open(row, column)
  else if (steps[event.key]) {
    row += steps[event.key]![0]
    column += steps[event.key]![1]
  } else return
  event.preventDefault()
  at.value = { row: Math.min(last.row, Math.max(0, row)), column: Math.min(last.column, Math.max(0, column)) }
  const place = rows.value.findIndex((r) => r.kind === 'row' && r.nth === at.value.row)
  const frame = containerProps.ref.value
  const sight = inSight.value
  if (frame && (place < sight[0]!.index + 8 || place > sight.at(-1)!.index - 8)) scrollTo(Math.max(0, place - Math.floor(frame.clientHeight / rowHeight / 2)))
  void nextTick(() => table.value?.querySelector<HTMLElement>(`[data-at="${at.value.row}/${at.value.column}"]`)?.focus())
}

function open(row: number, column: number) {
  const cell = shown.value[row]?.row.cells[column]
  const instance = cell?.instances[0]
  if (instance === undefined || !here) return
  void router.push({ name: 'instance', params: { recording: here.recording.value, instance: addressOf(props.board.stream, instance) } })
}
// One listener for all cells: there may be ten thousand.
function click(event: MouseEvent) {
  const place = (event.target as HTMLElement).closest<HTMLElement>('[data-at]')?.dataset.at
  if (!place) return
  const [row, column] = place.split('/').map(Number)
  at.value = { row: row!, column: column! }
  open(row!, column!)
}
</script>

<template>
  <v-card border flat><div class="frame" v-bind="containerProps"><div v-bind="wrapperProps">
    <table ref="table" class="board" :style="{ width: `${470 + 112 * board.scopes.length}px` }" role="grid" :aria-rowcount="rows.length" :aria-colcount="board.scopes.length + 1" @keydown="move" @click="click">
      <colgroup>
        <col style="width: 470px" />
        <col v-for="s in board.scopes" :key="s.id" style="width: 112px" />
      </colgroup>
      <thead>
        <tr>
          <th class="who" scope="col">Consumer, and how what it got behaved</th>
          <th v-for="s in board.scopes" :key="s.id" scope="col" class="scope" :title="`${s.name}, took ${took(s.took_ns)}`">
            <ScopeLink :scope="s.id" :stream="s.stream" />
            <div class="quiet small">{{ s.root ? 'at start' : shorten(s.name, 14) }}</div>
          </th>
        </tr>
      </thead>
      <tbody>
        <template v-for="{ data: r } in inSight" :key="r.key">
          <tr v-if="r.kind === 'service'" class="service">
            <th class="who" scope="row">
              <button type="button" class="fold" :aria-expanded="!folded.has(r.name)" @click.stop="emit('fold', r.name)">
                <v-icon :icon="folded.has(r.name) ? mdiChevronRight : mdiChevronDown" size="small" /><span class="sr-only">{{ folded.has(r.name) ? 'Unfold' : 'Fold' }} {{ r.name }}</span>
              </button>
              <RegLink :of="r.of" class="service-name" />
              <span class="quiet ml-3">{{ r.n }} {{ r.n === 1 ? 'row' : 'rows' }}{{ r.differs ? ' · differs from its lifetime' : '' }}</span>
            </th>
            <td :colspan="board.scopes.length" />
          </tr>
          <BoardLine v-else :row="r.row" :nth="r.nth" :column="at.row === r.nth ? at.column : -1" />
        </template>
      </tbody>
    </table>
  </div></div></v-card>
  <ul class="legend quiet" aria-label="How to read the board">
    <li><span class="cell same"><span class="shape">=</span><span class="mark">kido</span></span> the same instance as in the scope before</li>
    <li><span class="cell changed"><span class="shape">◆</span><span class="mark">fenu</span></span> another one</li>
    <li><span class="cell same shared"><span class="shape">=</span><span class="mark">kido</span></span> underlined: built outside the scope</li>
    <li><span class="cell"><span class="mark">~kido</span></span> not handed out: kept by an instance from an earlier scope</li>
    <li><span class="cell"><span class="mark">∅</span></span> an empty list</li>
    <li>arrow keys move, Enter opens the instance</li>
  </ul>
  <section v-if="board.held.length && board.rows.length <= 40" class="mt-4" data-held>
    <h2 class="mb-1">Who holds which instance</h2>
    <v-card border flat class="pa-3">
      <ul class="held">
        <li v-for="h in board.held" :key="h.instance">
          <RegLink :of="h.of" /> <MarkTag :mark="h.mark" :instance="h.instance" :stream="board.stream" />: {{ h.by.map((b) => names.type(b)).join(', ') }}
          <span class="quiet">in {{ count(h.scopes, 'scope', 'scopes') }}</span>
        </li>
      </ul>
    </v-card>
  </section>
</template>

<style scoped src="./board.css"></style>
<style scoped>
.frame {
  max-height: calc(100vh - 250px);
  min-height: 260px;
  overflow: auto;
}
.board tbody tr {
  height: 28px;
}
.board {
  table-layout: fixed;
  border-collapse: separate;
  border-spacing: 0;
  font-size: 0.86rem;
}
th {
  text-align: left;
  font-weight: 500;
}
thead th {
  position: sticky;
  top: 0;
  z-index: 2;
  padding: 6px 8px;
  background: rgb(var(--v-theme-surface));
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  white-space: nowrap;
  vertical-align: bottom;
}
thead .who {
  z-index: 3;
}
.service .who,
.service td {
  background: color-mix(in srgb, rgb(var(--v-theme-band)) 8%, rgb(var(--v-theme-surface)));
}
.service-name {
  font-weight: 600;
}
.small {
  font-size: 0.78rem;
}
.held {
  columns: 2 380px;
  list-style: none;
  padding: 0;
  font-size: 0.86rem;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 22px;
  list-style: none;
  padding: 8px 0 0;
  font-size: 0.8rem;
}
</style>
