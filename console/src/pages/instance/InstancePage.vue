<script setup lang="ts">
import { computed } from 'vue'

import CommandLine from '@/components/CommandLine.vue'
import CopyButton from '@/components/CopyButton.vue'
import MarkTag from '@/components/MarkTag.vue'
import PageState from '@/components/PageState.vue'
import RegLink from '@/components/RegLink.vue'
import ScopeLink from '@/components/ScopeLink.vue'
import TimeText from '@/components/TimeText.vue'
import { useNames } from '@/composables/useNames'
import { useView } from '@/composables/useView'
import { addressOf, nameOf, took, whole } from '@/format'

const names = useNames()
const props = defineProps<{ recording: string; instance: string }>()
const { data, error, loading, refresh } = useView(() => props.recording, 'instances/{instance}', () => ({ instance: props.instance }))
const built = computed(() => ({ container: 'the container', factory: 'a factory of the application', external: 'the application, which handed it in', direct: 'the application, past the container' })[data.value?.by ?? ''] ?? 'unknown')
const inScope = computed(() => (data.value ? addressOf(data.value.stream, data.value.scope) : ''))
</script>

<template>
  <main class="page">
    <PageState :error="error" :loading="loading && !data" what="the instance" @retry="refresh" />
    <template v-if="data">
      <h1><MarkTag :mark="data.mark" :instance="data.instance" plain /> <span :title="nameOf(data.of)">{{ names.of(data.of) }}</span></h1>
      <v-card class="pa-4 mt-3" max-width="900">
        <dl>
          <dt>Instance</dt><dd><span class="num">{{ instance }}</span><CopyButton :text="instance" what="the instance's number" /></dd>
          <dt>Registration</dt><dd><RegLink :of="data.of" full lifetime /></dd>
          <dt>Built</dt><dd><TimeText :at="data.at" /> in {{ took(data.took_ns) }}, by {{ built }}</dd>
          <template v-if="data.line">
            <dt>In scope</dt><dd><ScopeLink :scope="data.scope" :stream="data.stream" :mark="data.instance" /></dd>
            <dt>Line of the trace</dt><dd class="num-left">{{ whole(data.line) }}</dd>
          </template>
          <dt>Now</dt><dd>{{ data.alive ? 'alive in the root' : data.alive === null ? 'not known: too many instances are alive to list them all' : data.scope === 0 ? 'ended' : 'lives no longer than what it belongs to; its scope shows the rest' }}</dd>
          <dt>Built with</dt>
          <dd>
            <div v-for="w in data.with" :key="w.instance"><MarkTag :mark="w.mark" :instance="w.instance" :stream="data.stream" /> <RegLink :of="w.of" lifetime /></div>
            <span v-if="!data.with.length" class="quiet">nothing recorded</span>
          </dd>
          <dt>Who got it</dt>
          <dd><router-link class="app-link" :to="{ name: 'sharing', params: { recording }, query: { service: data.of.service } }">{{ names.of(data.of) }} on the board</router-link></dd>
        </dl>
      </v-card>
      <CommandLine v-if="data.scope" class="mt-4" :command="`keenlantern scope ${recording} ${inScope}`" />
      <CommandLine v-else class="mt-4" :command="`keenlantern sharing ${recording} --service ${data.of.service}`" />
    </template>
  </main>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 170px 1fr;
  gap: 8px 16px;
}
dt {
  font-weight: 600;
}
</style>
