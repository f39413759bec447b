<script setup lang="ts">
import CopyButton from '@/components/CopyButton.vue'

const here = window.location.origin
const ways = [
  { what: 'Look at the made-up harbour office first', how: `keenlantern demo --listen 127.0.0.1:0 --once` },
  { what: 'Send a trace file', how: `keenlantern import --server ${here} trace.ndjson` },
  { what: 'Send one without the client', how: `curl --data-binary @trace.ndjson ${here}/api/v1/recordings` },
]
</script>

<template>
  <v-card class="mt-4 pa-5" max-width="860">
    <h2>Nothing has been recorded yet</h2>
    <p class="mt-2">Record an application, or import a trace file.</p>
    <div v-for="way in ways" :key="way.how" class="mt-4">
      <div>{{ way.what }}</div>
      <div class="line"><code class="code">{{ way.how }}</code><CopyButton :text="way.how" what="the command" /></div>
    </div>
    <p class="mt-4"><router-link :to="{ name: 'record' }">Record your application</router-link>: what to type, by runtime and container.</p>
  </v-card>
</template>

<style scoped>
.line {
  display: flex;
  align-items: center;
  gap: 8px;
  overflow-x: auto;
}
</style>
