<script setup lang="ts">
import type { BoardCell, BoardRow } from '@/api/types'
import LifetimeTag from '@/components/LifetimeTag.vue'
import VerdictTag from '@/components/VerdictTag.vue'
import { useNames } from '@/composables/useNames'
import { shorten } from '@/format'

/** One row of the board; column is the cell that Tab reaches, -1: none of these. */
defineProps<{ row: BoardRow; nth: number; column: number }>()

const names = useNames()
const shapes: Record<string, string> = { first: '', same: '=', changed: '◆', none: '' }
function said(cell: BoardCell): string {
  const words: Record<string, string> = {
    first: 'the first seen',
    same: 'the same as in the scope before',
    changed: 'another than in the scope before',
    none: 'nothing was given',
  }
  const what = cell.instances.map((i, n) => `${cell.marks[n]} (instance ${i})`).join(', ')
  const from = cell.kept ? 'kept by an instance from an earlier scope' : cell.shared ? 'built outside this scope' : ''
  return [cell.empty ? 'an empty list' : what, words[cell.change], from].filter(Boolean).join('; ')
}
</script>

<template>
  <tr data-board-row>
    <th class="who" scope="row">
      <div class="line" :style="{ paddingLeft: `${Math.max(0, row.depth - 1) * 14 + 22}px` }">
        <span class="path" :title="row.path.join(' → ') + (row.site ? `, ${row.site}` : '')">{{ row.all ? 'all: ' : '' }}{{ shorten(names.type(row.path[row.path.length - 1] || 'the application'), 34) }}</span>
        <LifetimeTag :lifetime="row.of.lifetime ?? ''" />
        <VerdictTag :verdict="row.observed" brief />
      </div>
    </th>
    <td v-for="(c, n) in row.cells" :key="n" :class="['cell', c.change, { shared: c.shared, kept: c.kept }]" :data-at="`${nth}/${n}`" :tabindex="column === n ? 0 : -1" :title="said(c)">
      <span class="shape" aria-hidden="true">{{ shapes[c.change] }}</span><span class="mark">{{ c.kept ? '~' : '' }}{{ c.empty ? '∅' : '' }}{{ c.marks.slice(0, 2).join(' ') }}{{ c.marks.length > 2 ? ` +${c.marks.length - 2}` : '' }}</span>
    </td>
  </tr>
</template>

<style scoped src="./board.css"></style>
<style scoped>
.line {
  display: flex;
  align-items: center;
  gap: 8px;
  white-space: nowrap;
}
.path {
  flex: 0 0 auto;
  min-width: 150px;
}
</style>
