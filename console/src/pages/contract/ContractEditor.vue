<script setup lang="ts">
import { mdiCheckAll, mdiContentSaveOutline } from '@mdi/js'
import { onMounted, ref, shallowRef } from 'vue'

import { api, Problem } from '@/api/client'
import type { ContractReport } from '@/api/types'

/** Writes a contract: the one that is held, or a draft. It can be tried on the recording before the service holds it. */
const props = defineProps<{ recording: string; app: string; held: boolean }>()
const emit = defineEmits<{ tried: [report: ContractReport]; done: [saved: boolean]; cancel: [] }>()

const text = ref('')
const busy = ref(true)
const problem = shallowRef<Problem>()

async function busily(work: () => Promise<void>) {
  busy.value = true
  problem.value = undefined
  try {
    await work()
  } catch (caught) {
    problem.value = Problem.of(caught)
  } finally {
    busy.value = false
  }
}

onMounted(() => busily(async () => void (text.value = props.held ? (await api.contract(props.app)).text : await api.contractDraft(props.recording))))
const check = () => busily(async () => emit('tried', await api.checkContract(props.recording, text.value)))
const save = () =>
  busily(async () => {
    await api.putContract(props.app, text.value)
    emit('done', true)
  })
</script>

<template>
  <v-card class="pa-4" data-editor>
    <v-textarea v-model="text" class="yaml" :label="held ? `The contract of ${app}` : `A draft for ${app}`" rows="16" :disabled="busy && !text" spellcheck="false" hide-details />
    <v-alert v-if="problem" type="error" class="mt-3" :title="problem.title">{{ problem.detail }}</v-alert>
    <div class="buttons mt-3">
      <v-btn variant="outlined" :prepend-icon="mdiCheckAll" :disabled="busy" @click="check">Try it on this recording</v-btn>
      <v-btn variant="flat" color="primary" :prepend-icon="mdiContentSaveOutline" :disabled="busy" @click="save">Have the service hold it</v-btn>
      <v-btn variant="text" @click="emit('cancel')">Cancel</v-btn>
    </div>
  </v-card>
</template>

<style scoped>
.yaml :deep(textarea) {
  font-family: 'DejaVu Sans Mono', ui-monospace, monospace;
  font-size: 0.85rem;
  line-height: 1.5;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
</style>
