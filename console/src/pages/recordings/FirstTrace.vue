<script setup lang="ts">
import CopyButton from '@/components/CopyButton.vue'

const here = window.location.origin
const ways = [
  { what: 'Look at the made-up harbour office first', how: `keenlantern demo --listen 127.0.0.1:0 --once` },
  { what: 'Send a trace file', how: `keenlantern import --server ${here} trace.ndjson` },
  { what: 'Send one without the client', how: `curl --data-binary @trace.ndjson ${here}/api/v1/recordings` },
]
const code = `rec, err := record.Start(record.Config{App: "my-app", Service: "${here}"})
defer rec.Close(ctx)`
</script>

<template>
  <v-card class="mt-4 pa-5" max-width="860">
    <h2>Nothing has been recorded yet</h2>
    <p class="mt-2">Record an application, or import a trace file.</p>
    <div v-for="way in ways" :key="way.how" class="mt-4">
      <div>{{ way.what }}</div>
      <div class="line"><code class="code">{{ way.how }}</code><CopyButton :text="way.how" what="the command" /></div>
    </div>
    <div class="mt-4">
      <div>Record a Go application</div>
      <div class="line"><pre class="code">{{ code }}</pre><CopyButton :text="code" what="the code" /></div>
    </div>
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
