<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import type { Severity } from '@/api/types'
import CommandLine from '@/components/CommandLine.vue'
import PageState from '@/components/PageState.vue'
import TimeText from '@/components/TimeText.vue'
import { count, healthOf, took } from '@/format'

import FindingCard from './FindingCard.vue'
import FindingsTable from './FindingsTable.vue'
import StreamTable from './StreamTable.vue'
import { families, foldedCauses, useRecording } from './useRecording'

const props = defineProps<{ recording: string }>()
const route = useRoute()
const router = useRouter()
const { detail, findings, error, loading, refresh } = useRecording(() => props.recording)

const severities: Severity[] = ['error', 'warning', 'note']
const chosenSeverity = computed(() => (route.query.severity as string | undefined) ?? '')
const chosenFamily = computed(() => (route.query.family as string | undefined) ?? '')
const causes = computed(() => foldedCauses(findings.value ?? [], chosenSeverity.value, chosenFamily.value))
const first = computed(() => (findings.value ?? []).filter((f) => f.severity === 'error' && !f.because).slice(0, 3))
const follow = computed(() => (findings.value ?? []).filter((f) => f.because).length)

const sentence = computed(() => {
  const d = detail.value
  if (!d) return ''
  const errors = (findings.value ?? []).filter((f) => f.severity === 'error' && !f.because).length
  const scopes = `${count(d.figures.scopes, 'scope', 'scopes')}, ${healthOf(d.health)}`
  if (!findings.value?.length) return `Nothing found; ${scopes}.`
  const after = follow.value ? `, ${follow.value} that ${follow.value === 1 ? 'follows' : 'follow'} from ${errors === 1 ? 'it' : 'them'}` : ''
  if (!errors) return `No errors, ${count(findings.value.length, 'lesser finding', 'lesser findings')}; ${scopes}.`
  return `${count(errors, 'mistake', 'mistakes')} to fix first${after}; ${scopes}.`
})

function choose(name: 'severity' | 'family', value: string) {
  const query = { ...route.query }
  if (value && value !== query[name]) query[name] = value
  else delete query[name]
  void router.push({ query })
}

const command = computed(() => {
  const severity = chosenSeverity.value ? ` --severity ${chosenSeverity.value}` : ''
  return `keenlantern findings ${props.recording}${severity}`
})
</script>

<template>
  <main class="page">
    <router-link class="app-link" to="/recordings">Recordings</router-link>
    <PageState class="mt-3" :error="error" :loading="loading && !detail" what="the recording" @retry="refresh" />
    <template v-if="detail && findings">
      <h1 class="mt-1">{{ detail.app }} {{ detail.version }}</h1>
      <p class="quiet about">
        <span class="code">{{ detail.id }}</span> · {{ detail.environment || 'no environment named' }} · {{ detail.state }} ·
        began <TimeText :at="detail.start" /> · lasted {{ took(detail.lasted_ns) }}
      </p>
      <p class="sentence" data-sentence>{{ sentence }}</p>

      <section v-if="first.length" class="cards mt-3" aria-label="What to look at first">
        <FindingCard v-for="f in first" :key="f.id" :finding="f" :recording="detail.id" />
      </section>

      <section class="mt-6">
        <div class="head">
          <h2>Findings</h2>
          <div class="filters" role="group" aria-label="Show findings of">
            <v-chip v-for="s in severities" :key="s" :color="s" :variant="chosenSeverity === s ? 'flat' : 'outlined'" :aria-pressed="chosenSeverity === s" @click="choose('severity', s)">
              {{ s === 'error' ? 'errors' : s === 'warning' ? 'warnings and worse' : 'all' }}
            </v-chip>
            <v-chip v-for="f in families(findings)" :key="f.name" :variant="chosenFamily === f.name ? 'flat' : 'outlined'" :aria-pressed="chosenFamily === f.name" @click="choose('family', f.name)">
              {{ f.name }} {{ f.n }}
            </v-chip>
          </div>
        </div>
        <FindingsTable :causes="causes" :recording="detail.id" :none="findings.length ? 'None of the findings is of the kind chosen.' : 'Nothing was found in this recording.'" />
      </section>

      <section class="mt-6">
        <h2 class="mb-2">Streams</h2>
        <StreamTable :streams="detail.stream_list" />
      </section>
      <CommandLine class="mt-4" :command="command" />
    </template>
  </main>
</template>

<style scoped>
.about {
  margin: 2px 0 10px;
}
.sentence {
  margin: 0;
  font-size: 1.1rem;
}
.cards {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(320px, 1fr));
  gap: 16px;
}
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 16px;
  margin-bottom: 8px;
}
.filters {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
</style>
