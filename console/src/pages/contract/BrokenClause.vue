<script setup lang="ts">
import type { Judgement } from '@/api/types'
import SourceRef from '@/components/SourceRef.vue'
import { useNames } from '@/composables/useNames'

/** A clause that was broken: by whom, where, and what to do. */
const names = useNames()
defineProps<{ clause: Judgement; recording: string }>()
</script>

<template>
  <v-card class="pa-4 mb-3 broken" data-clause="broken">
    <h3><span class="sign" title="broken">◆</span> {{ clause.says }}</h3>
    <p class="my-1">{{ names.prose(clause.finding?.why ?? clause.why) }}</p>
    <template v-if="clause.finding">
      <div class="refs my-2">
        <SourceRef :of="clause.finding.subject" :role="clause.finding.holder ? 'what is given' : 'what it is about'" />
        <SourceRef v-if="clause.finding.holder" :of="clause.finding.holder" role="to whom" />
      </div>
      <p class="my-1"><strong>Change:</strong> {{ names.prose(clause.finding.fix) }}</p>
      <p v-if="clause.finding.examples.length" class="quiet examples">
        as in
        <span v-for="(e, n) in clause.finding.examples" :key="n">
          <router-link v-for="i in e.instances" :key="i" class="app-link" :to="{ name: 'instance', params: { recording, instance: i } }">instance {{ i }}</router-link
          >,
          <router-link v-if="e.scope" class="app-link" :to="{ name: 'scope', params: { recording, scope: e.scope } }">scope {{ e.scope }},</router-link>
          line {{ e.line }}{{ n + 1 < clause.finding.examples.length ? '; ' : '' }}
        </span>
      </p>
    </template>
  </v-card>
</template>

<style scoped>
.broken {
  border-left: 4px solid rgb(var(--v-theme-error));
}
h3 {
  font-size: 1rem;
  overflow-wrap: anywhere;
}
.sign {
  display: inline-block;
  width: 1.2em;
  color: rgb(var(--v-theme-error));
}
.refs {
  display: flex;
  flex-wrap: wrap;
  gap: 12px 32px;
}
.examples {
  font-size: 0.85rem;
}
</style>
