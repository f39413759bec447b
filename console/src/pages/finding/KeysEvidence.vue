<script setup lang="ts">
import { computed, ref } from 'vue'

import type { FindingDetail } from '@/api/types'
import { useView } from '@/composables/useView'
import { bad, idOf, keyName } from '@/pages/keys/keys'
import KeyTiles from '@/pages/keys/KeyTiles.vue'

/** The service's keys: what was asked, and what answered. */
const props = defineProps<{ finding: FindingDetail }>()
const { data } = useView(() => props.finding.recording, 'keys', () => ({ service: props.finding.subject.service, all: true, limit: 200 }))
const keys = computed(() => (data.value?.keys ?? []).filter((k) => k.service === props.finding.subject.service))
const open = ref(`${props.finding.subject.service}/${keyName(props.finding.subject.key)}`)
const wrong = computed(() => keys.value.filter(bad).length)
</script>

<template>
  <v-card v-if="keys.length" class="mt-4 px-4 py-3" data-keys-evidence>
    <h2>What was asked, and what answered</h2>
    <p class="quiet">{{ keys.length }} {{ keys.length === 1 ? 'key' : 'keys' }}, {{ wrong }} of them wrong; <router-link class="app-link" :to="{ name: 'keys', params: { recording: finding.recording }, query: { service: finding.subject.service, all: 'true', open: idOf(keys[0]!) } }">who asked</router-link></p>
    <KeyTiles :keys="keys" :open="open" @choose="(id: string) => (open = id)" />
  </v-card>
</template>
