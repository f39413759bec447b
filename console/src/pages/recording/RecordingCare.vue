<script setup lang="ts">
import { mdiDownload, mdiPencil, mdiPin, mdiPinOff, mdiRefresh, mdiTrashCanOutline } from '@mdi/js'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, Problem } from '@/api/client'
import type { RecordingDetail } from '@/api/types'

/** Naming, labelling, pinning, exporting and deleting a recording. */
const props = defineProps<{ recording: RecordingDetail }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const naming = ref(false)
const deleting = ref(false)
const name = ref('')
const labels = ref('')
const problem = ref<Problem>()

function openNaming() {
  name.value = props.recording.name
  labels.value = Object.entries(props.recording.labels)
    .map(([k, v]) => `${k}=${v}`)
    .join(' ')
  problem.value = undefined
  naming.value = true
}

async function attempt(work: () => Promise<unknown>): Promise<boolean> {
  try {
    await work()
    problem.value = undefined
    return true
  } catch (caught) {
    problem.value = Problem.of(caught)
    return false
  }
}

async function keepName() {
  const all: Record<string, string> = {}
  for (const one of labels.value.split(/\s+/).filter(Boolean)) {
    const [key, ...value] = one.split('=')
    all[key!] = value.join('=')
  }
  if (await attempt(() => api.change(props.recording.id, { name: name.value, labels: all }))) {
    naming.value = false
    emit('changed')
  }
}

async function pin() {
  if (await attempt(() => api.change(props.recording.id, { pinned: !props.recording.pinned }))) emit('changed')
}

/** How many streams are being analysed again; 0 before. */
const again = ref(0)
async function analyseAgain() {
  await attempt(async () => {
    again.value = (await api.analyse(props.recording.id)).streams
  })
}

async function remove() {
  if (await attempt(() => api.remove(props.recording.id))) {
    deleting.value = false
    void router.push('/recordings')
  }
}
</script>

<template>
  <section aria-label="This recording">
    <div class="row">
      <v-btn variant="outlined" :prepend-icon="mdiPencil" data-name @click="openNaming">Name and labels</v-btn>
      <v-btn variant="outlined" :prepend-icon="recording.pinned ? mdiPinOff : mdiPin" data-pin @click="pin">{{ recording.pinned ? 'Unpin' : 'Pin' }}</v-btn>
      <v-btn variant="outlined" :prepend-icon="mdiDownload" :href="`/api/v1/recordings/${encodeURIComponent(recording.id)}/export`" download>Export the trace</v-btn>
      <v-btn v-if="recording.health.broken || again" variant="outlined" :prepend-icon="mdiRefresh" :disabled="!!again" data-analyse @click="analyseAgain">{{
        again ? 'Being analysed again' : 'Analyse again'
      }}</v-btn>
      <v-btn variant="outlined" color="error" :prepend-icon="mdiTrashCanOutline" @click="deleting = true">Delete</v-btn>
    </div>
    <v-alert v-if="problem" type="error" class="mt-3" :title="problem.title">{{ problem.detail }}</v-alert>
    <v-dialog v-model="naming" max-width="520">
      <v-card class="pa-4" title="Name and labels">
        <v-text-field v-model="name" class="mt-2" variant="outlined" label="Name" maxlength="200" autofocus />
        <v-text-field v-model="labels" data-labels variant="outlined" label="Labels, such as ticket=417 build=main" />
        <div class="row">
          <v-btn color="primary" variant="flat" data-keep-name @click="keepName">Keep</v-btn>
          <v-btn @click="naming = false">Leave it</v-btn>
        </div>
      </v-card>
    </v-dialog>
    <v-dialog v-model="deleting" max-width="520">
      <v-card class="pa-4" title="Delete this recording?">
        <p class="my-3">This permanently deletes its trace and its findings. Export the trace first if you want to keep it.</p>
        <div class="row">
          <v-btn color="error" variant="flat" @click="remove">Delete {{ recording.id }}</v-btn>
          <v-btn @click="deleting = false">Keep it</v-btn>
        </div>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
}
</style>
