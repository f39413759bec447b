<script setup lang="ts">
import { computed } from 'vue'

import type { KeyRow } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import PageState from '@/components/PageState.vue'
import RegLink from '@/components/RegLink.vue'
import { useQuery } from '@/composables/useQuery'
import { useView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf, whole } from '@/format'

import { bad, idOf, keyName } from './keys'
import KeyTiles from './KeyTiles.vue'

const props = defineProps<{ recording: string }>()
const { text, flag, number } = useQuery()
const page = number('page', 1)
const rows = 100
const service = text('service')
const lifetime = text('lifetime')
const all = flag('all')
const open = text('open', '', 'replace')
const { data, error, loading, refresh } = useView(() => props.recording, 'keys', () => ({ service: service.value, lifetime: lifetime.value, all: all.value, limit: rows, offset: (page.value - 1) * rows }))
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))


// Service by key. Where there are more keys than fit, a service's keys stand in a line of their own below it.
const services = computed(() => {
  const map = new Map<string, KeyRow[]>()
  for (const r of data.value?.keys ?? []) map.set(r.service, [...(map.get(r.service) ?? []), r])
  // What is wrong comes first, then what has most keys.
  return [...map].map(([name, keys]) => ({ name, keys })).sort((a, b) => Number(b.keys.some(bad)) - Number(a.keys.some(bad)) || b.keys.length - a.keys.length)
})
const chosen = computed(() => (data.value?.keys ?? []).find((r) => idOf(r) === open.value))
const columns: Column<KeyRow>[] = [
  { title: 'service', value: (r) => r.service },
  { title: 'key', value: (r) => r.key },
  { title: 'registered', value: (r) => r.registered.length },
  { title: 'asked', value: (r) => r.asked },
  { title: 'missing', value: (r) => r.missing },
  { title: 'state', value: (r) => r.state },
  { title: 'answers', value: (r) => r.answers.map((a) => `${nameOf(a.of)} ${a.count}`).join('; ') },
]
</script>

<template>
  <main class="page">
    <h1>Keys</h1>
    <p class="quiet mb-3">For each service and key: what is registered, how often it was requested, and what answered.</p>
    <FilterBar>
      <v-switch v-model="all" density="compact" hide-details color="primary" label="also services without keys" />
      <template #end><ExportMenu v-if="data" name="keys" :data="data" :columns="columns" :rows="data.keys" /></template>
    </FilterBar>
    <PageState :error="error" :loading="loading && !data" what="the keys" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="!data.keys.length" class="pa-4"><p class="quiet">No service with a key or with several registrations{{ service || lifetime ? ' is let through by the filters' : ' is known' }}.</p></v-card>
      <v-card v-for="s in services" v-else :key="s.name" class="mb-3 service" data-key-service>
        <div class="name"><RegLink :of="{ service: s.name, key: null, implementation: null, at: null, lifetime: '' }" /></div>
        <KeyTiles :keys="s.keys" :open="open" @choose="(id: string) => (open = open === id ? '' : id)" />
        <div v-if="chosen && chosen.service === s.name" class="detail">
          <h2>{{ chosen.service }} [{{ keyName(chosen.key) }}]</h2>
          <p v-if="chosen.missing" class="bad">Asked for and not given {{ whole(chosen.missing) }} times: {{ chosen.why || 'no reason was written down' }}.</p>
          <div class="columns">
            <div>
              <h3>Registered</h3>
              <div v-for="r in chosen.registered" :key="r.id" class="mb-1"><RegLink :of="r.of" full lifetime /><span class="quiet small">{{ r.answers ? 'it answers' : 'another one answers' }}</span></div>
              <p v-if="!chosen.registered.length" class="quiet">nothing</p>
            </div>
            <div>
              <h3>Asked by</h3>
              <div v-for="(a, n) in chosen.asked_by.slice(0, 12)" :key="n"><RegLink v-if="a.consumer" :of="a.consumer" /><span v-else>{{ a.entry || 'unknown' }}</span> <span class="quiet num">{{ whole(a.count) }} times</span></div>
              <p v-if="!chosen.asked_by.length" class="quiet">nobody</p>
            </div>
            <div>
              <h3>Answered</h3>
              <div v-for="(a, n) in chosen.answers" :key="n" :class="{ bad: a.other }">{{ a.other ? '◆ of another key: ' : '' }}<RegLink :of="a.of" full /> <span class="quiet num">{{ whole(a.count) }} times</span></div>
              <p v-if="!chosen.answers.length" class="quiet">nothing</p>
            </div>
          </div>
        </div>
      </v-card>
      <p v-if="data.total > data.keys.length" class="quiet">{{ data.keys.length }} of {{ data.total }} shown; narrow them by a name.</p>
      <v-pagination v-if="pages > 1" v-model="page" :length="pages" :total-visible="7" class="mb-3" />
      <CommandLine class="mt-4" :command="`keenlantern keys ${recording}${service ? ` --service ${service}` : ''}${all ? ' --all' : ''}`" />
    </template>
  </main>
</template>

<style scoped>
.service {
  display: grid;
  grid-template-columns: 230px 1fr;
}
.name {
  padding: 14px 16px;
  font-weight: 600;
  overflow-wrap: anywhere;
}
.bad {
  border: 2px solid rgb(var(--v-theme-error));
}
.bad {
  color: rgb(var(--v-theme-error));
}
.detail {
  grid-column: 1 / -1;
  padding: 10px 16px 14px;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
.columns {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 20px;
}
h3 {
  font-size: 0.85rem;
  font-weight: 600;
}
.small {
  font-size: 0.8rem;
}
</style>
