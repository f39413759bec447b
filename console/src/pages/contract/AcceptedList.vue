<script setup lang="ts">
import type { Acceptance } from '@/api/types'
import { useNames } from '@/composables/useNames'

/** The findings that the contract accepts, and what became of them. */
const names = useNames()
defineProps<{ list: Acceptance[]; recording: string }>()
const says = { accepted: '✓ accepted', expired: '◆ expired: it counts again', gone: '○ not found any more: take it out' }
</script>

<template>
  <section data-accepted>
    <h2>Accepted findings</h2>
    <v-card>
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">Finding</th>
            <th scope="col">Reason</th>
            <th scope="col">Until</th>
            <th scope="col">Now</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="a in list" :key="a.finding">
            <td>
              <router-link v-if="a.status !== 'gone'" class="app-link" :to="{ name: 'finding', params: { recording, finding: a.finding } }">{{ names.prose(a.title ?? '') }}</router-link>
              <span v-else class="code">{{ a.finding }}</span>
            </td>
            <td>{{ a.reason }}</td>
            <td class="num">{{ a.until }}</td>
            <td>{{ says[a.status] }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
  </section>
</template>

<style scoped>
h2 {
  margin-bottom: 6px;
}
td {
  overflow-wrap: anywhere;
}
</style>
