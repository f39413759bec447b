<script setup lang="ts" generic="T">
import { mdiDownload } from '@mdi/js'

import { csvOf, save, type Column } from '@/download'

/**
 * Saves the data of a page: the answer as JSON, its rows as CSV, a drawing as PNG. Where the page shows only a part, load reads all rows, and
 * fetch the whole answer.
 */
const props = defineProps<{ name: string; data: unknown; columns?: Column<T>[]; rows?: T[]; load?: () => Promise<T[]>; fetch?: () => Promise<unknown>; png?: () => void }>()

async function json() {
  save(props.name + '.json', 'application/json', JSON.stringify(props.fetch ? await props.fetch() : props.data, null, 2))
}
async function csv() {
  save(props.name + '.csv', 'text/csv', csvOf(props.columns ?? [], props.load ? await props.load() : (props.rows ?? [])))
}
</script>

<template>
  <v-menu>
    <template #activator="{ props: menu }">
      <v-btn v-bind="menu" :prepend-icon="mdiDownload" variant="outlined" data-export>Export</v-btn>
    </template>
    <v-list density="compact">
      <v-list-item v-if="columns" title="Rows as CSV" @click="csv" />
      <v-list-item title="The answer as JSON" @click="json" />
      <v-list-item v-if="png" title="The drawing as PNG" @click="png()" />
    </v-list>
  </v-menu>
</template>
