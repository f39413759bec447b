<script setup lang="ts">
import type { LayersView, StackRow } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import ExportMenu from '@/components/ExportMenu.vue'
import FilterBar from '@/components/FilterBar.vue'
import PageState from '@/components/PageState.vue'
import RegLink from '@/components/RegLink.vue'
import { useQuery } from '@/composables/useQuery'
import { useView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf, rounded, whole } from '@/format'

import LayerBox from './LayerBox.vue'

const props = defineProps<{ recording: string }>()
const { text } = useQuery()
const service = text('service')
const { data, error, loading, refresh } = useView<LayersView>(() => props.recording, 'layers', () => ({ service: service.value, limit: 500 }))
const columns: Column<StackRow>[] = [
  { title: 'service', value: (s) => s.service },
  { title: 'key', value: (s) => s.key },
  { title: 'layers', value: (s) => s.layers.map((l) => l.of.implementation || nameOf(l.of)).join(' > ') },
  { title: 'calls', value: (s) => s.layers.map((l) => l.calls).join(' > ') },
  { title: 'seen', value: (s) => s.seen.length },
  { title: 'round', value: (s) => s.seen.filter((c) => !c.whole).reduce((n, c) => n + c.count, 0) },
]
const short = (name: string) => name.split('.').pop() || name
</script>

<template>
  <main class="page">
    <h1>Layers</h1>
    <p class="quiet mb-3">Decorators from the outermost to the innermost, how many calls reach each, and who got which: those that go round a layer stand out.</p>
    <FilterBar :lifetime="false">
      <template #end><ExportMenu v-if="data" name="layers" :data="data" :columns="columns" :rows="data.stacks" /></template>
    </FilterBar>
    <PageState :error="error" :loading="loading && !data" what="the layers" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="!data.stacks.length" class="pa-4"><p class="quiet">No service is built in layers{{ service ? ' that the filter lets through' : '' }}.</p></v-card>
      <v-card v-for="(s, n) in data.stacks" v-else :key="n" class="pa-4 mb-4" data-stack>
        <h2><RegLink :of="{ service: s.service, key: s.key, implementation: null, at: null, lifetime: '' }" /> <span class="quiet kind">{{ s.declared ? 'as registered' : 'as inferred from what was built' }}</span></h2>
        <div class="halves mt-2">
          <LayerBox :layers="s.layers" />
          <div>
            <h3>Who got what</h3>
            <div v-for="(c, k) in s.seen" :key="k" :class="['seen', { round: !c.whole }]">
              <div class="chain">
                <span class="sign" :title="c.whole ? 'all layers' : 'goes round a layer'">{{ c.whole ? '✓' : '◆' }}</span>
                <span v-for="(l, m) in c.layers" :key="m"><span v-if="m" class="quiet"> → </span><span :title="nameOf(l)">{{ short(l.implementation || nameOf(l)) }}</span></span>
                <span class="num ml-2" :title="whole(c.count)">{{ rounded(c.count) }} times</span>
              </div>
              <div class="quiet small">
                {{ c.whole ? 'all layers, to' : 'goes round a layer:' }}
                <span v-for="(w, m) in c.who.slice(0, 6)" :key="m">{{ m ? ', ' : '' }}<RegLink v-if="w.consumer" :of="w.consumer" /><template v-else>{{ w.entry || 'nobody known' }}</template></span>
                <template v-if="c.who.length > 6"> and {{ c.who.length - 6 }} more</template>
              </div>
            </div>
            <p v-if="!s.seen.length" class="quiet">Nobody was given any of it yet.</p>
          </div>
        </div>
      </v-card>
      <CommandLine class="mt-4" :command="`keenlantern layers ${recording}${service ? ` --service ${service}` : ''}`" />
    </template>
  </main>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 440px), 1fr));
  gap: 24px;
}
.kind {
  font-size: 0.8rem;
  font-weight: 400;
}
h3 {
  font-size: 0.85rem;
  font-weight: 600;
  margin-bottom: 4px;
}
.seen {
  padding: 4px 10px;
  margin-bottom: 6px;
  border-left: 3px solid rgba(var(--v-theme-on-surface), 0.25);
  overflow-wrap: anywhere;
}
.round {
  border-left-color: rgb(var(--v-theme-error));
}
.round .sign {
  color: rgb(var(--v-theme-error));
}
.sign {
  display: inline-block;
  width: 1.4em;
}
.small {
  font-size: 0.8rem;
}
</style>
