<script setup lang="ts">
import {
  mdiAlertOctagonOutline,
  mdiClockOutline,
  mdiCompareHorizontal,
  mdiFileSign,
  mdiGraphOutline,
  mdiHelpRhombusOutline,
  mdiKeyOutline,
  mdiLayersOutline,
  mdiLightbulbOutline,
  mdiPin,
  mdiRecordCircleOutline,
  mdiTableEye,
  mdiTimerSandComplete,
  mdiTrashCanOutline,
} from '@mdi/js'
import { computed } from 'vue'

import { api } from '@/api/client'
import CopyButton from '@/components/CopyButton.vue'
import PageState from '@/components/PageState.vue'
import TimeText from '@/components/TimeText.vue'
import { useFetched } from '@/composables/useFetched'
import { provideNames } from '@/composables/useNames'
import { provideHere, useChanges } from '@/composables/useView'
import { healthOf, took } from '@/format'

const props = defineProps<{ recording: string }>()
const { data, error, loading, refresh } = useFetched(() => [props.recording], (id: string, signal: AbortSignal) => api.recording(id, signal))
useChanges(() => props.recording, refresh)
provideHere({ recording: computed(() => props.recording), detail: data, refresh })
const names = provideNames(() => props.recording)
const leftOut = computed(() => names.leftOut())

const views = computed(() => {
  const to = (name: string) => ({ name, params: { recording: props.recording } })
  return [
    { title: 'Overview', icon: mdiLightbulbOutline, to: to('recording'), exact: true },
    { title: 'Findings', icon: mdiAlertOctagonOutline, to: to('findings') },
    { title: 'Sharing', icon: mdiTableEye, to: to('sharing') },
    { title: 'Scopes', icon: mdiClockOutline, to: to('scopes') },
    { title: 'Registrations', icon: mdiGraphOutline, to: to('registrations') },
    { title: 'Disposal', icon: mdiTrashCanOutline, to: to('disposal') },
    { title: 'Keys', icon: mdiKeyOutline, to: to('keys') },
    { title: 'Layers', icon: mdiLayersOutline, to: to('layers') },
    { title: 'Costs', icon: mdiTimerSandComplete, to: to('costs') },
    { title: 'What if', icon: mdiHelpRhombusOutline, to: to('whatif') },
    { title: 'Contract', icon: mdiFileSign, to: to('contract') },
    { title: 'Compare', icon: mdiCompareHorizontal, to: { name: 'compare', query: { b: data.value?.id ?? props.recording } } },
  ]
})
</script>

<template>
  <div class="with-views">
    <nav class="views" aria-label="Views of this recording">
      <v-btn v-for="v in views" :key="v.title" block size="default" class="way" :to="v.to" :exact="v.exact" :prepend-icon="v.icon">{{ v.title }}</v-btn>
    </nav>
    <div class="view">
      <header v-if="data" class="about quiet">
        <strong class="app">{{ data.name || `${data.app} ${data.version}` }}</strong>
        <v-icon v-if="data.pinned" :icon="mdiPin" size="x-small" title="pinned" />
        <span v-if="data.name">{{ data.app }} {{ data.version }}</span>
        <span><span class="code">{{ data.id }}</span><CopyButton :text="data.id" what="the recording's id" /></span>
        <span>{{ data.environment || 'no environment named' }}</span>
        <span><v-icon v-if="data.state === 'running'" :icon="mdiRecordCircleOutline" size="x-small" color="error" /> {{ data.state }}</span>
        <span>began <TimeText :at="data.start" /></span>
        <span :title="`${data.lasted_ns} ns`">lasted {{ took(data.lasted_ns) }}</span>
        <span :class="{ unwhole: !data.health.whole }">{{ healthOf(data.health) }}</span>
        <v-chip v-for="(value, label) in data.labels" :key="label">{{ label }}={{ value }}</v-chip>
      </header>
      <v-alert v-if="data?.health.broken" type="error" class="ma-4" title="This recording could not be analysed to its end" data-broken>
        {{ data.health.why }}. Its trace is kept and can be exported; “Analyse again” on the overview tries once more.
      </v-alert>
      <v-alert v-if="data?.stale" type="info" class="ma-4" title="This recording is being reanalysed" data-stale>
        Another version of the service, or other settings, analysed {{ data.stale }} of its {{ data.streams }} streams. What you see is from then; it is replaced
        as it is done, and cannot be compared until all of it is.
      </v-alert>
      <div v-if="!data" class="page"><PageState :error="error" :loading="loading" what="the recording" @retry="refresh" /></div>
      <router-view v-if="data" />
      <footer v-if="data && (leftOut.length || names.inFull.value)" class="names quiet" data-names>
        <span v-if="names.inFull.value">Names are shown in full.</span>
        <span v-else>Left out of names: {{ leftOut.length === 1 ? 'package' : 'packages' }} {{ leftOut.slice(0, 4).join(', ') }}{{ leftOut.length > 4 ? ` and ${leftOut.length - 4} more` : '' }}.</span>
        <v-btn size="small" variant="text" @click="names.inFull.value = !names.inFull.value">{{ names.inFull.value ? 'Show short names' : 'Show names in full' }}</v-btn>
      </footer>
    </div>
  </div>
</template>

<style scoped>
.with-views {
  display: flex;
  align-items: flex-start;
  max-width: 1880px;
  margin: 0 auto;
}
.views {
  flex: 0 0 176px;
  position: sticky;
  top: 48px;
  padding: 12px 0 0 8px;
}
.way {
  justify-content: flex-start;
}
.view {
  flex: 1;
  min-width: 0;
}
.about {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 2px 14px;
  padding: 14px 24px 0;
  font-size: 0.85rem;
}
.app {
  color: rgb(var(--v-theme-on-surface));
}
.names {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  padding: 0 24px 16px;
  font-size: 0.8rem;
}
.unwhole {
  font-weight: 600;
  color: rgb(var(--v-theme-on-surface));
}
.view :deep(.page) {
  max-width: none;
  margin: 0;
  padding-top: 8px;
}
@media (max-width: 800px) {
  .with-views {
    display: block;
  }
  .views {
    position: static;
  }
}
</style>
