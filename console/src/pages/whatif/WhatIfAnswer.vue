<script setup lang="ts">
import type { Finding, NowThen, WhatIf } from '@/api/types'
import RegLink from '@/components/RegLink.vue'
import SeverityTag from '@/components/SeverityTag.vue'
import { useNames } from '@/composables/useNames'
import { rounded, took, whole } from '@/format'

/** What would be different: figures beside those that were recorded, and findings. */
const names = useNames()
const props = defineProps<{ answer: WhatIf; recording: string }>()

function change(c: NowThen): string {
  if (c.now === c.then) return 'as now'
  if (!c.now) return 'instead of none'
  const percent = (100 * Math.abs(c.then - c.now)) / c.now
  return `${percent >= 10 ? percent.toFixed(0) : percent.toFixed(1)} % ${c.then < c.now ? 'less ▼' : 'more ▲'}`
}
function share(saved: number): string {
  if (Math.abs(saved) < 0.0005) return '–'
  return `${(100 * Math.abs(saved)).toFixed(1)} % ${saved > 0 ? 'saved' : 'added'}`
}
const lists: { title: string; none: string; list: () => Finding[]; link: boolean }[] = [
  { title: 'Would appear', none: 'No finding would appear.', list: () => props.answer.appear, link: false },
  { title: 'Would go', none: 'No finding would go.', list: () => props.answer.go, link: true },
]
</script>

<template>
  <div data-answer>
    <div class="tiles mb-4">
      <v-card class="pa-4">
        <div class="quiet">Instances</div>
        <div class="figure">{{ rounded(answer.instances.then) }}</div>
        <div class="quiet" :title="whole(answer.instances.now)">{{ change(answer.instances) }}; {{ rounded(answer.instances.now) }} were recorded</div>
      </v-card>
      <v-card class="pa-4">
        <div class="quiet">Construction</div>
        <div class="figure">{{ took(answer.construction_ns.then) }}</div>
        <div class="quiet">{{ change(answer.construction_ns) }}; {{ took(answer.construction_ns.now) }} was recorded</div>
      </v-card>
      <v-card v-if="answer.bytes.now || answer.bytes.then" class="pa-4">
        <div class="quiet">Bytes</div>
        <div class="figure">{{ rounded(answer.bytes.then) }}</div>
        <div class="quiet" :title="whole(answer.bytes.now)">{{ change(answer.bytes) }}; {{ rounded(answer.bytes.now) }} were recorded</div>
      </v-card>
      <v-card v-for="l in lists" :key="l.title" class="pa-4">
        <div class="quiet">{{ l.title }}</div>
        <p v-if="!l.list().length">{{ l.none }}</p>
        <div v-for="f in l.list().slice(0, 4)" :key="f.id" class="finding">
          <SeverityTag :severity="f.severity" />
          <router-link v-if="l.link" class="app-link" :to="{ name: 'finding', params: { recording, finding: f.id } }">{{ names.prose(f.title) }}</router-link>
          <span v-else>{{ names.prose(f.title) }}</span>
        </div>
        <p v-if="l.list().length > 4" class="quiet">and {{ l.list().length - 4 }} more</p>
      </v-card>
    </div>
    <v-alert v-if="answer.refused.length" type="warning" density="compact" class="mb-4" data-refused>
      A container that validates lifetimes would refuse:
      <div v-for="(r, n) in answer.refused" :key="n">{{ r.path.map((p) => `${names.of(p)} (${p.lifetime ?? 'no lifetime stated'})`).join(' → ') }}</div>
    </v-alert>
    <v-card v-if="answer.registrations.length" class="mb-4">
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">Registration</th>
            <th scope="col" class="num">Made</th>
            <th scope="col" class="num">then</th>
            <th scope="col" class="num">Alive at once</th>
            <th scope="col" class="num">then</th>
            <th scope="col" class="num">Construction</th>
            <th scope="col" class="num">then</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, n) in answer.registrations" :key="n" :class="{ changed: r.changed }">
            <td><span v-if="r.changed" class="sign" title="changed">◆</span><RegLink :of="r.of" /></td>
            <td class="num" :title="whole(r.made.now)">{{ rounded(r.made.now) }}</td>
            <td class="num" :title="whole(r.made.then)">{{ rounded(r.made.then) }}</td>
            <td class="num">{{ rounded(r.most.now) }}</td>
            <td class="num">{{ rounded(r.most.then) }}</td>
            <td class="num">{{ took(r.construction_ns.now) }}</td>
            <td class="num">{{ took(r.construction_ns.then) }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-if="answer.scopes.length" class="mb-4">
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">Construction in one scope</th>
            <th scope="col" class="num">Scopes</th>
            <th scope="col" class="num">Median</th>
            <th scope="col" class="num">then</th>
            <th scope="col" class="num">95 %</th>
            <th scope="col" class="num">then</th>
            <th scope="col" class="num">Of its time</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in answer.scopes" :key="`${s.name}/${s.kind}`">
            <td>{{ s.name }}</td>
            <td class="num" :title="whole(s.scopes)">{{ rounded(s.scopes) }}</td>
            <td class="num">{{ took(s.median_ns.now) }}</td>
            <td class="num">{{ took(s.median_ns.then) }}</td>
            <td class="num">{{ took(s.p95_ns.now) }}</td>
            <td class="num">{{ took(s.p95_ns.then) }}</td>
            <td class="num">{{ share(s.share) }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <h2>What the recording cannot tell</h2>
    <ul class="unknown">
      <li v-for="u in answer.unknown" :key="u">{{ u }}</li>
    </ul>
  </div>
</template>

<style scoped>
.tiles {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 240px), 1fr));
  gap: 16px;
}
.figure {
  font-size: 1.5rem;
  font-weight: 600;
  font-variant-numeric: tabular-nums;
}
.finding {
  margin-top: 4px;
  overflow-wrap: anywhere;
}
.sign {
  display: inline-block;
  width: 1.2em;
}
.changed td {
  font-weight: 600;
}
.unknown {
  padding-left: 20px;
}
</style>
