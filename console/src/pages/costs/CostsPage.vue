<script setup lang="ts">
import { computed } from 'vue'

import type { CostsView } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import NewsBar from '@/components/NewsBar.vue'
import PageState from '@/components/PageState.vue'
import RegLink from '@/components/RegLink.vue'
import { useQuery } from '@/composables/useQuery'
import { useHeldView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf, rounded, took, whole } from '@/format'

const props = defineProps<{ recording: string }>()
const { text, number, set } = useQuery()
const name = text('name', '', 'replace')
const service = text('service')
const lifetime = text('lifetime')
const order = text('order', 'saves')
const page = number('page', 1)
const rows = 15
const { data, error, loading, refresh, news, show } = useHeldView(() => props.recording, 'costs', () => ({ service: service.value, lifetime: lifetime.value, name: name.value, order: order.value as 'own' | 'saves' | 'made', limit: rows, offset: (page.value - 1) * rows }), () => window.scrollY > 80)

type Row = CostsView['names'][number]['rows'][number]
const names = computed(() => data.value?.names ?? [])
const pages = computed(() => Math.ceil((data.value?.total === 1 ? names.value[0]!.rows_total : (data.value?.total ?? 0)) / rows))
const flat = computed(() => names.value.flatMap((n) => n.rows.map((r) => ({ scope: n.name, row: r }))))
const sized = computed(() => flat.value.some((r) => r.row.bytes_per_scope)) // only some recorders measure
const columns: Column<{ scope: string; row: Row }>[] = [
  { title: 'scopes_of', value: (r) => r.scope },
  { title: 'registration', value: (r) => nameOf(r.row.of) },
  { title: 'implementation', value: (r) => r.row.of.implementation },
  { title: 'made', value: (r) => r.row.made },
  { title: 'per_scope', value: (r) => r.row.per_scope },
  { title: 'own_ns', value: (r) => r.row.own_ns },
  { title: 'own_mean_ns', value: (r) => r.row.own_mean_ns },
  { title: 'percent', value: (r) => r.row.percent },
  { title: 'saves_ns', value: (r) => r.row.saves_ns },
]
</script>

<template>
  <main class="page">
    <h1>Costs</h1>
    <NewsBar :news="news" @show="show" />
    <p class="quiet mb-3">What is constructed again in each scope of a name, what share of the scope's time that takes, and what one shared instance would save.</p>
    <FilterBar>
      <v-select v-model="order" class="order" density="compact" variant="outlined" hide-details label="Order" :items="[{ title: 'by what a change would save', value: 'saves' }, { title: 'by own time', value: 'own' }, { title: 'by instances a scope', value: 'made' }]" />
      <template #end><ExportMenu v-if="data" name="costs" :data="data" :columns="columns" :rows="flat" /></template>
    </FilterBar>
    <PageState :error="error" :loading="loading && !data" what="the costs" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="!names.length" class="pa-4"><p class="quiet">Nothing that matches the filters was built in any scope.</p></v-card>
      <v-card v-for="n in names" v-else :key="`${n.name}/${n.kind}`" class="mb-4" data-cost>
        <div class="head">
          <h2>{{ n.name || 'the root' }}</h2>
          <router-link v-if="n.name" class="app-link" :to="{ name: 'scopes', params: { recording }, query: { name: n.name } }">{{ rounded(n.scopes) }} scopes</router-link>
          <span v-if="n.mean_ns" class="quiet">open for {{ took(n.mean_ns) }} on average, of which building takes {{ took(n.built_mean_ns) }}</span>
          <span v-if="n.mean_ns" class="share"><span class="track" aria-hidden="true"><span class="bar" :style="{ width: `${Math.min(100, n.built_percent)}%` }" /></span><strong>{{ Math.round(n.built_percent) }} %</strong></span>
        </div>
        <v-table hover class="shares">
          <thead>
            <tr>
              <th style="width: 30%">Registration</th>
              <th class="num">Made</th>
              <th class="num">A scope</th>
              <th class="num">Own time each</th>
              <th class="num">The longest</th>
              <th class="num">Of the scopes' time</th>
              <th class="num">One instance would save</th>
              <th v-if="sized" class="num">Bytes a scope</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in n.rows" :key="r.id">
              <td class="py-1"><RegLink :of="r.of" lifetime full /></td>
              <td class="num" :title="whole(r.made)">{{ rounded(r.made) }}</td>
              <td class="num">{{ r.per_scope.toFixed(r.per_scope < 10 ? 2 : 0) }}</td>
              <td class="num" :title="`${r.own_mean_ns} ns`">{{ took(r.own_mean_ns) }}</td>
              <td class="num" :title="`${r.max_ns} ns`">{{ took(r.max_ns) }}</td>
              <td class="num"><span class="share"><span class="track small" aria-hidden="true"><span class="bar" :style="{ width: `${Math.min(100, r.percent)}%` }" /></span>{{ r.percent.toFixed(1) }} %</span></td>
              <td class="num" :title="`${r.saves_ns} ns`">{{ r.saves_ns ? took(r.saves_ns) : '–' }}</td>
              <td v-if="sized" class="num">{{ r.bytes_per_scope ? rounded(r.bytes_per_scope) : '–' }}</td>
            </tr>
          </tbody>
        </v-table>
        <p v-if="n.rows_total > n.rows.length && data.total > 1" class="more"><button type="button" class="app-link" @click="set({ name: n.name })">{{ n.rows_total - n.rows.length }} more</button></p>
      </v-card>
      <v-pagination v-if="pages > 1" v-model="page" :length="pages" :total-visible="7" class="mb-3" />
      <section v-if="data.unused.length">
        <h2 class="mb-1">Injected and never used</h2>
        <v-card>
          <v-table>
            <thead><tr><th>What</th><th>Given to</th><th class="num">Times</th><th>Finding</th></tr></thead>
            <tbody>
              <tr v-for="u in data.unused" :key="u.finding">
                <td class="py-1"><RegLink :of="u.of" full /></td>
                <td><RegLink v-if="u.consumer" :of="u.consumer" /><span v-else>–</span></td>
                <td class="num">{{ whole(u.count) }}</td>
                <td><router-link class="app-link code" :to="{ name: 'finding', params: { recording, finding: u.finding } }">{{ u.finding }}</router-link></td>
              </tr>
            </tbody>
          </v-table>
        </v-card>
      </section>
      <CommandLine class="mt-4" :command="`keenlantern costs ${recording}${service ? ` --service ${service}` : ''}`" />
    </template>
  </main>
</template>

<style scoped>
.more {
  padding: 6px 16px 10px;
}
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 16px;
  padding: 12px 16px 4px;
}
.what {
  min-width: 250px;
}
.order {
  flex: 0 0 310px;
}
.share {
  display: inline-flex;
  align-items: center;
  gap: 8px;
}
.track {
  display: inline-block;
  width: 120px;
  height: 9px;
  border-radius: 2px;
  background: rgba(var(--v-theme-on-surface), 0.1);
}
.track.small {
  width: 70px;
}
.bar {
  display: block;
  height: 9px;
  border-radius: 2px;
  background: rgb(var(--v-theme-life));
}
</style>
