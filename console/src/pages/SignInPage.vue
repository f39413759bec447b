<script setup lang="ts">
import { mdiKeyVariant } from '@mdi/js'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, Problem } from '@/api/client'

const route = useRoute()
const router = useRouter()
const token = ref('')
const problem = ref<Problem>()
const busy = ref(false)

async function signIn() {
  busy.value = true
  problem.value = undefined
  try {
    await api.signIn(token.value)
    // Only ways within the console are followed.
    const next = String(route.query.next ?? '')
    await router.replace(next.startsWith('/') && !next.startsWith('//') ? next : '/recordings')
  } catch (caught) {
    problem.value = Problem.of(caught)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="page">
    <h1>Sign in</h1>
    <p class="mt-2 mb-4">
      This service wants a token. Its administrator creates one with
      <span class="code">keenlantern token create read</span>.
    </p>
    <v-form class="form" @submit.prevent="signIn">
      <v-text-field
        v-model="token"
        type="password"
        variant="outlined"
        label="Token"
        autocomplete="current-password"
        :prepend-inner-icon="mdiKeyVariant"
        autofocus
        required
      />
      <v-alert v-if="problem" type="error" :title="problem.title" class="mb-4" role="alert">{{ problem.detail }}</v-alert>
      <v-btn type="submit" color="primary" variant="flat" :loading="busy" :disabled="!token.trim()">Sign in</v-btn>
    </v-form>
  </main>
</template>

<style scoped>
.form {
  max-width: 480px;
}
</style>
