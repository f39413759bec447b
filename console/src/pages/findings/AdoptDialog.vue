<script setup lang="ts">
import { mdiHandshakeOutline } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, Problem } from '@/api/client'
import type { Severity } from '@/api/types'
import { count } from '@/format'

/** Accepts today's findings into the application's contract, so that only new ones count from then on. */
const props = defineProps<{ recording: string; findings: number; query: { severity?: Severity; family?: string; service?: string; since?: string } }>()
const emit = defineEmits<{ adopted: [] }>()
const shown = ref(false)
const reason = ref('')
const inThreeMonths = new Date()
inThreeMonths.setMonth(inThreeMonths.getMonth() + 3)
const until = ref(inThreeMonths.toISOString().slice(0, 10))
const problem = ref<Problem>()
const done = ref('')
const narrowed = computed(() => Object.values(props.query).some(Boolean))

async function adopt() {
  problem.value = undefined
  try {
    const answer = await api.adopt(props.recording, props.query, reason.value, until.value)
    done.value = `${count(answer.accepted, 'finding is', 'findings are')} accepted until ${answer.until}.`
    shown.value = false
    emit('adopted')
  } catch (caught) {
    problem.value = Problem.of(caught)
  }
}
</script>

<template>
  <v-dialog v-model="shown" max-width="560">
    <template #activator="{ props: dialog }">
      <v-btn v-bind="dialog" :prepend-icon="mdiHandshakeOutline" variant="outlined" data-adopt>Adopt</v-btn>
    </template>
    <v-card class="pa-5" role="dialog" aria-labelledby="adopt-title">
      <h2 id="adopt-title">Accept today's findings</h2>
      <p class="mt-2">
        {{ count(findings, 'finding', 'findings') }}{{ narrowed ? ' that the filters let through' : '' }} will be accepted in the application's contract. They are counted apart in every recording until the day
        below; new findings count as before.
      </p>
      <v-text-field v-model="reason" class="mt-4" density="compact" variant="outlined" label="Reason" placeholder="known before the recorder came; the team mends it in spring" maxlength="300" autofocus data-reason />
      <v-text-field v-model="until" density="compact" variant="outlined" type="date" label="Until" data-until />
      <v-alert v-if="problem" type="error" :title="problem.title" class="mb-3">{{ problem.detail }}</v-alert>
      <div class="actions">
        <v-btn variant="text" @click="shown = false">Cancel</v-btn>
        <v-btn color="primary" :disabled="!reason.trim() || !until" data-accept @click="adopt">Accept {{ count(findings, 'finding', 'findings') }}</v-btn>
      </div>
    </v-card>
  </v-dialog>
  <span v-if="done" class="quiet" role="status" data-adopted>{{ done }}</span>
</template>

<style scoped>
.actions {
  display: flex;
  justify-content: flex-end;
  gap: 10px;
}
</style>
