<script setup lang="ts">
import { useRoute } from 'vue-router'

const route = useRoute()
</script>

<template>
  <main class="page">
    <h1>There is no page here</h1>
    <p class="mt-2">
      Nothing is at <span class="code">{{ route.path }}</span>.
      <router-link class="app-link" to="/recordings">All recordings</router-link>
    </p>
  </main>
</template>
