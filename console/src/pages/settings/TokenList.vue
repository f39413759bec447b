<script setup lang="ts">
import { mdiKeyPlus } from '@mdi/js'
import { ref } from 'vue'

import { api, Problem } from '@/api/client'
import type { NewToken, Token } from '@/api/types'
import CopyButton from '@/components/CopyButton.vue'
import PageState from '@/components/PageState.vue'
import TimeText from '@/components/TimeText.vue'
import { useFetched } from '@/composables/useFetched'

const { data, error, loading, refresh } = useFetched(() => [], (signal: AbortSignal) => api.tokens(signal))
const kinds = [
  { title: 'record: may send', value: 'record' },
  { title: 'read: may look', value: 'read' },
  { title: 'manage: may do everything', value: 'manage' },
]
const kind = ref<'record' | 'read' | 'manage'>('read')
const name = ref('')
const made = ref<NewToken>()
const revoking = ref<Token>()
const problem = ref<Problem>()

async function attempt(work: () => Promise<void>) {
  problem.value = undefined
  try {
    await work()
    await refresh()
  } catch (caught) {
    problem.value = Problem.of(caught)
  }
}
const create = () =>
  attempt(async () => {
    made.value = await api.createToken(kind.value, name.value)
    name.value = ''
  })
const revoke = (t: Token) =>
  attempt(async () => {
    await api.revokeToken(t.id)
    revoking.value = undefined
  })
</script>

<template>
  <section>
    <h2 class="mb-2">Tokens</h2>
    <PageState :error="error" :loading="loading && !data" what="the tokens" @retry="refresh" />
    <v-card v-if="data" class="pa-4">
      <v-form class="row" @submit.prevent="create">
        <v-text-field v-model="name" class="name" density="compact" variant="outlined" hide-details label="For whom or what" maxlength="100" />
        <v-select v-model="kind" class="kind" density="compact" variant="outlined" hide-details label="Kind" :items="kinds" />
        <v-btn type="submit" variant="flat" color="primary" :prepend-icon="mdiKeyPlus" data-create-token>Make a token</v-btn>
      </v-form>
      <v-alert v-if="made" type="success" class="mt-3" title="This is the only time that the secret is shown" closable @click:close="made = undefined">
        <span class="code secret" data-secret>{{ made.secret }}</span><CopyButton :text="made.secret" what="the secret" />
      </v-alert>
      <v-alert v-if="problem" type="error" class="mt-3" :title="problem.title">{{ problem.detail }}</v-alert>
      <p v-if="!data.tokens.length" class="quiet mt-3">There are no tokens. None is needed on loopback. Make one before the service listens on an address that others can reach.</p>
      <v-table v-else class="mt-3">
        <thead><tr><th>For</th><th>Kind</th><th>Id</th><th>Made</th><th></th></tr></thead>
        <tbody>
          <tr v-for="t in data.tokens" :key="t.id">
            <td>{{ t.name || '–' }}</td>
            <td>{{ t.kind }}</td>
            <td class="code">{{ t.id }}</td>
            <td><TimeText :at="t.created" /></td>
            <td class="num"><v-btn color="error" variant="outlined" @click="revoking = t">Revoke</v-btn></td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-dialog :model-value="!!revoking" max-width="480" @update:model-value="revoking = undefined">
      <v-card v-if="revoking" class="pa-4" title="Revoke this token?">
        <p class="my-3">Requests with {{ revoking.name || revoking.id }} are refused from now on.</p>
        <div class="row">
          <v-btn color="error" variant="flat" @click="revoke(revoking)">Revoke it</v-btn>
          <v-btn @click="revoking = undefined">Keep it</v-btn>
        </div>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}
.name {
  flex: 0 1 280px;
}
.kind {
  flex: 0 0 240px;
}
.secret {
  overflow-wrap: anywhere;
}
</style>
