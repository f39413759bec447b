<script setup lang="ts">
import { onBeforeUnmount } from 'vue'

import { api } from '@/api/client'
import CommandLine from '@/components/CommandLine.vue'
import PageState from '@/components/PageState.vue'
import { useFetched } from '@/composables/useFetched'

import ApplicationCard from './ApplicationCard.vue'
import RecordYours from './RecordYours.vue'

const { data, error, loading, refresh } = useFetched(() => [], (signal: AbortSignal) => api.applications(signal))
// Recorders come and go without anything being recorded, so no live message reports them.
const again = window.setInterval(() => void refresh(), 3000)
onBeforeUnmount(() => window.clearInterval(again))
</script>

<template>
  <main class="page">
    <h1>Record</h1>
    <p class="quiet mb-3">Applications whose recorder is connected to this service. A recorder that is switched off costs a look at a flag for each event.</p>
    <PageState :error="error" :loading="loading && !data" what="the applications" @retry="refresh" />
    <template v-if="data">
      <ApplicationCard v-for="a in data.applications" :key="a.name" class="mb-4" :application="a" @changed="refresh" />
      <p v-if="!data.applications.length" class="quiet mb-3">No application is connected.</p>
      <CommandLine v-else class="mb-4" command="keenlantern record status" />
    </template>
    <RecordYours />
  </main>
</template>
