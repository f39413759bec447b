<script setup lang="ts">
import { computed } from 'vue'

import type { Evidence } from '@/api/types'
import MarkTag from '@/components/MarkTag.vue'
import { useNames } from '@/composables/useNames'
import { took } from '@/format'

/** What the drawing shows, to read: one line for each thing that happened. */
const props = defineProps<{ evidence: Evidence }>()
const names = useNames()

interface Row {
  at: number
  what: string
  instance?: number
  mark?: string
  scope: number | null
}

const rows = computed<Row[]>(() => {
  const e = props.evidence
  const all: Row[] = []
  for (const s of e.scopes) {
    all.push({ at: s.opened, what: `scope opened: ${s.name || s.kind}`, scope: s.scope })
    if (s.closed !== null) all.push({ at: s.closed, what: `scope closed: ${s.name || s.kind}`, scope: s.scope })
  }
  for (const l of e.lives) {
    const of = { instance: l.instance, mark: l.mark, scope: l.home }
    all.push({ at: l.made, what: `${names.of(l.of)} made`, ...of })
    if (l.ended !== null) all.push({ at: l.ended, what: `${names.of(l.of)} ended: ${l.end}`, ...of })
  }
  const life = new Map(e.lives.map((l) => [l.instance, l]))
  for (const u of e.uses) {
    const l = life.get(u.instance)
    const verb = u.kind === 'use' ? `used${u.by ? ' by ' + names.prose(u.by) : ''}` : `handed out${u.by ? ' to ' + names.prose(u.by) : ''}`
    all.push({ at: u.at, what: `${l ? names.of(l.of) : ''} ${verb}${u.after ? ', after its end' : ''}`, instance: u.instance, mark: l?.mark, scope: u.scope })
  }
  return all.sort((a, b) => a.at - b.at)
})
</script>

<template>
  <v-table height="320" fixed-header>
    <thead>
      <tr>
        <th class="num">Time</th>
        <th>What happened</th>
        <th>Instance</th>
        <th class="num">Scope</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(row, n) in rows" :key="n">
        <td class="num" :title="`${row.at} ns`">{{ took(row.at) }}</td>
        <td>{{ row.what }}</td>
        <td><MarkTag v-if="row.mark && row.instance" :mark="row.mark" :instance="row.instance" /></td>
        <td class="num">{{ row.scope ?? '–' }}</td>
      </tr>
    </tbody>
  </v-table>
</template>
