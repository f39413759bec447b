<script setup lang="ts">
import { api } from '@/api/client'
import PageState from '@/components/PageState.vue'
import { useFetched } from '@/composables/useFetched'
import { count, rounded, took, whole } from '@/format'

import RuleList from './RuleList.vue'
import TokenList from './TokenList.vue'

const { data, error, loading, refresh } = useFetched(() => [], (signal: AbortSignal) => api.service(signal))
const { data: rules } = useFetched(() => [], (signal: AbortSignal) => api.rules(signal))
const bytes = (n: number) => (n < 1 << 20 ? `${rounded(n)} bytes` : `${whole(Math.round(n / (1 << 20)))} MB`)
</script>

<template>
  <main class="page">
    <h1 class="mb-3">Settings</h1>
    <PageState :error="error" :loading="loading && !data" what="the service's settings" @retry="refresh" />
    <template v-if="data">
      <div class="parts">
        <v-card class="pa-4">
          <h2>What is kept</h2>
          <dl class="mt-2">
            <dt>Recordings</dt><dd class="num-left">{{ whole(data.recordings) }}, {{ count(data.streams, 'stream', 'streams') }} in work</dd>
            <dt>Stored</dt><dd :title="`${data.stored_bytes} bytes`">{{ bytes(data.stored_bytes) }} of traces, packed</dd>
            <dt>Kept for</dt><dd>{{ data.keep_for_ns ? `${took(data.keep_for_ns)} after the last event` : 'without limit' }}</dd>
            <dt>Kept at most</dt><dd>{{ data.keep_bytes ? bytes(data.keep_bytes) : 'without limit' }}</dd>
            <dt v-if="data.stale">Being reanalysed</dt><dd v-if="data.stale">{{ count(data.stale, 'stream', 'streams') }} left, {{ whole(data.refreshed) }} done</dd>
          </dl>
          <p class="quiet mt-3">Pinned recordings are always kept. Set these limits when you start the service: <span class="code">keenlantern serve --keep-for 720h --keep-bytes 20000000000</span></p>
        </v-card>
        <v-card class="pa-4">
          <h2>About</h2>
          <dl class="mt-2">
            <dt>Keen Lantern</dt><dd>{{ data.version }}</dd>
            <dt>Tokens</dt><dd>{{ data.tokens ? 'wanted with every request' : 'not needed: it listens on loopback' }}</dd>
            <dt>Services</dt><dd><router-link class="app-link" to="/services">who shares the work</router-link></dd>
            <dt>API</dt><dd><a class="app-link" href="/api/v1/openapi.json">OpenAPI document</a></dd>
            <dt>Metrics</dt><dd><a class="app-link" href="/metrics">Prometheus text</a></dd>
          </dl>
        </v-card>
      </div>
      <TokenList class="mt-5" />
      <RuleList v-if="rules" class="mt-5" :rules="rules.rules" />
    </template>
  </main>
</template>

<style scoped>
.parts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 420px), 1fr));
  gap: 16px;
}
dl {
  display: grid;
  grid-template-columns: 140px 1fr;
  gap: 4px 16px;
}
dt {
  font-weight: 600;
}
</style>
