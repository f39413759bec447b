<script setup lang="ts">
import { mdiLanConnect, mdiLanDisconnect, mdiThemeLightDark } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { useTheme } from 'vuetify'

import { api } from '@/api/client'
import { connected } from '@/composables/useLive'

const theme = useTheme()
const route = useRoute()
// Before signing in, no live messages arrive, and that is no problem.
const signingIn = computed(() => route.name === 'sign-in')
// A service that works alone needs no page about others.
const shared = ref(false)
watch(
  signingIn,
  async (now) => {
    if (now) return
    try {
      shared.value = (await api.services(new AbortController().signal)).shared
    } catch {
      // The pages say what is wrong.
    }
  },
  { immediate: true },
)
const places = computed(() => [
  { title: 'Recordings', to: '/recordings' },
  { title: 'Compare', to: '/compare' },
  { title: 'Record', to: '/record' },
  ...(shared.value ? [{ title: 'Services', to: '/services' }] : []),
  { title: 'Settings', to: '/settings' },
])
const remembered = 'keenlantern.theme'

onMounted(() => {
  const chosen = localStorage.getItem(remembered)
  if (chosen === 'light' || chosen === 'dark') theme.change(chosen)
})

function toggle() {
  const next = theme.current.value.dark ? 'light' : 'dark'
  theme.change(next)
  localStorage.setItem(remembered, next)
}
</script>

<template>
  <v-app>
    <a class="skip" href="#content">To the content</a>
    <v-app-bar flat density="compact" border="b">
      <router-link class="brand" to="/recordings">
        <img src="/lantern.svg" alt="" width="24" height="24" />
        Keen Lantern
      </router-link>
      <nav v-if="!signingIn" class="places" aria-label="Console">
        <v-btn v-for="p in places" :key="p.to" :to="p.to" size="default">{{ p.title }}</v-btn>
      </nav>
      <v-spacer />
      <span v-if="signingIn" />
      <span v-else-if="!connected" class="offline" role="status">
        <v-icon :icon="mdiLanDisconnect" size="small" /> the service does not answer
      </span>
      <v-icon v-else :icon="mdiLanConnect" size="small" class="quiet mr-2" title="Live: the service answers" />
      <v-btn :icon="mdiThemeLightDark" aria-label="Change between light and dark" title="Change between light and dark" @click="toggle" />
    </v-app-bar>
    <v-main id="content" tag="div">
      <router-view />
    </v-main>
  </v-app>
</template>

<style scoped>
.brand {
  display: flex;
  align-items: center;
  gap: 10px;
  margin-left: 24px;
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
.places {
  margin-left: 24px;
}
.offline {
  display: flex;
  align-items: center;
  gap: 6px;
  margin-right: 12px;
  font-weight: 600;
  color: rgb(var(--v-theme-error));
}
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  z-index: 2000;
  padding: 4px 8px;
  background: rgb(var(--v-theme-surface));
}
</style>
