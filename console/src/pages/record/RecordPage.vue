<script setup lang="ts">
import { onBeforeUnmount } from 'vue'

import { api } from '@/api/client'
import CommandLine from '@/components/CommandLine.vue'
import PageState from '@/components/PageState.vue'
import { useFetched } from '@/composables/useFetched'

import ApplicationCard from './ApplicationCard.vue'

const { data, error, loading, refresh } = useFetched(() => [], (signal: AbortSignal) => api.applications(signal))
// Recorders come and go without anything being recorded, so the live line does not tell of them.
const again = window.setInterval(() => void refresh(), 3000)
onBeforeUnmount(() => window.clearInterval(again))
</script>

<template>
  <main class="page">
    <h1>Record</h1>
    <p class="quiet mb-3">Applications whose recorder is connected to this service. A recorder that is switched off costs one atomic read per event.</p>
    <PageState :error="error" :loading="loading && !data" what="the applications" @retry="refresh" />
    <template v-if="data">
      <v-card v-if="!data.applications.length" class="pa-5" max-width="760">
        <h2>No application is here</h2>
        <p class="mt-2">An application appears here as soon as it starts with this service's address.</p>
        <pre class="code mt-3">rec, err := record.Start(record.Config{App: "my-app", Service: "…", Off: true})</pre>
      </v-card>
      <ApplicationCard v-for="a in data.applications" :key="a.name" class="mb-4" :application="a" @changed="refresh" />
      <CommandLine class="mt-4" command="keenlantern record status" />
    </template>
  </main>
</template>
